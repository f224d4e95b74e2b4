"""Many virtual-time runs of one plan of the demo, for comparing forecasts with what happens."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import timedelta

import numpy as np

from maestoso.core.forecast.durations import estimates
from maestoso.core.forecast.monte_carlo import Forecast, forecast
from maestoso.core.planning.isolated_test import compile_test
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState
from maestoso.practice.rehearsal import Rehearsal
from tests import worlds
from tests.practice.test_rehearsal import tidewell


@dataclass(frozen=True, slots=True, kw_only=True)
class Runs:
    """Machine seconds until the last check of each run; ``measured`` those of every step in each."""

    took_s: list[float]
    measured: Mapping[str, list[float]]


def play(code: str, first: int, count: int) -> Runs:
    """Runs number ``first`` and following: each draws its own durations, since keys name their run."""
    inputs, world = tidewell(code)
    took_s: list[float] = []
    measured: dict[str, list[float]] = {}
    for number in range(first, first + count):
        mark = f"t{number}"
        start = worlds.NOW + timedelta(hours=2 * number)
        # What a test leaves behind is nothing, so one site serves for all of them; old points are let go.
        chosen = tuple(replace(group, point=world.points(group.code)[-1]) for group in inputs.groups)
        rehearsal = Rehearsal(
            f"v-{number}",
            replace(inputs, mark=mark, groups=chosen),
            {inputs.plan.target: world},
            start,
            "ann",
        )
        state = rehearsal.play(_quick)
        if state.ready_s is None:
            raise AssertionError(f"run {number} of {code} did not come to its last check")
        took_s.append(state.ready_s)
        for name, one in state.steps.items():
            if one.status == "done" and one.asked_s is not None and one.settled_s is not None:
                measured.setdefault(name.replace(mark, "t1"), []).append(one.settled_s - one.asked_s)
    return Runs(took_s=took_s, measured=measured)


def _quick(state: RunState) -> tuple[Draft, float] | None:
    """A person who answers at once, so that nothing but machines takes time."""
    said = worlds.judge(state)
    return None if said is None else (said[0], 0.0)


def foreseen(code: str, measured: Mapping[str, list[float]], samples: int = 1000) -> Forecast:
    """What would be forecast by what earlier runs measured."""
    inputs, _ = tidewell(code)
    graph = compile_test(inputs)
    expected = estimates(graph.steps, {w.name: w for w in inputs.workloads}, measured)
    return forecast(graph, expected, inputs.limits, inputs.plan.rto_s, samples=samples)


def off(made: Forecast, runs: Runs) -> dict[str, float]:
    """How far p50, p80 and p95 are from those of the runs, as a share."""
    true = np.percentile(runs.took_s, (50, 80, 95))
    said = (made.p50_s, made.p80_s, made.p95_s)
    return {name: s / t - 1 for name, s, t in zip(("p50", "p80", "p95"), said, true, strict=True)}
