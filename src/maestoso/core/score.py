"""The score as data: one row of numbers per step, for a forecast and for a run alike.

Times are run seconds. Of a run, ``planned`` is the ghost (what was expected at the start), ``expected`` what
to expect now, ``start_s`` and ``finish_s`` are what happened, ``tries`` what had failed before that.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

import numpy as np

from maestoso.core.forecast.monte_carlo import Forecast
from maestoso.core.planning.graph import TO_READY, StepGraph
from maestoso.core.runs.progress import expected, planned
from maestoso.core.runs.state import RunState
from maestoso.core.runs.steps import RESOLVED, Status, Try
from maestoso.core.scheduling.list_schedule import critical_path


# Not frozen, as Step is not, and for the same reason.
@dataclass(slots=True, kw_only=True)
class _Known:
    """What is known of a step before anything happens."""

    id: str
    verb: str
    title: str
    phase: str
    workload: str | None
    wave: int | None
    site: str | None
    delay_s: float
    person: bool
    skippable: bool


@dataclass(slots=True, kw_only=True)
class ForecastStep(_Known):
    """One step on the score of a forecast. ``low_s`` and ``high_s`` are the p10 and p90 of its end, and
    ``decides`` is the share of runs in which it holds up the end."""

    start_s: float
    finish_s: float
    low_s: float
    high_s: float
    critical: bool
    decides: float


@dataclass(slots=True, kw_only=True)
class ScoreStep(_Known):
    """One step on the score of a run."""

    status: Status
    attempt: int
    planned_start_s: float
    planned_finish_s: float
    expected_start_s: float
    expected_finish_s: float
    start_s: float | None = None
    finish_s: float | None = None
    critical: bool = False
    code: str = ""
    reason: str = ""
    tries: tuple[Try, ...] = ()


def forecast_score(graph: StepGraph, made: Forecast) -> tuple[ForecastStep, ...]:
    """The score of what would happen, up to the verdict: what is taken away after it is nobody's question."""
    critical, likely = set(made.critical), made.likely
    starts, finishes = _tenths(likely.start_s), _tenths(likely.finish_s)
    spread, decides = np.round(made.spread_s, 1).tolist(), np.round(made.criticality, 2).tolist()
    # Named one by one: of a large plan there are thousands, after every change of it.
    return tuple(
        ForecastStep(
            id=step.id, verb=step.verb, title=step.title, phase=step.phase, workload=step.workload,
            wave=step.wave, site=step.site, delay_s=step.delay_s, person=step.person,
            skippable=step.skippable, start_s=starts[at], finish_s=finishes[at],
            low_s=spread[at][0], high_s=spread[at][1], critical=step.id in critical, decides=decides[at],
        )
        for at, step in enumerate(graph.steps)
        if step.phase in TO_READY or step.phase == "judge"
    )  # fmt: skip


def _tenths(seconds: tuple[float, ...]) -> list[float]:
    rounded: list[float] = np.round(seconds, 1).tolist()
    return rounded


def run_score(state: RunState, now: datetime) -> tuple[ScoreStep, ...]:
    """The score of a run as it stands at ``now``."""
    ghost, ahead = planned(state), expected(state, now)
    critical = set(critical_path(state.graph, ahead))
    rows = []
    for at, step in enumerate(state.graph.steps):
        happened = state.steps[step.id]
        settled = happened.status in RESOLVED or happened.status == "failed"
        begun = happened.asked_s is not None or settled
        start = happened.asked_s if happened.asked_s is not None else happened.settled_s
        rows.append(
            ScoreStep(
                id=step.id, verb=step.verb, title=step.title, phase=step.phase, workload=step.workload,
                wave=step.wave, site=step.site, delay_s=step.delay_s, person=step.person,
                skippable=step.skippable, status=happened.status, attempt=happened.attempt,
                planned_start_s=round(ghost.start_s[at], 1), planned_finish_s=round(ghost.finish_s[at], 1),
                expected_start_s=round(ahead.start_s[at], 1), expected_finish_s=round(ahead.finish_s[at], 1),
                start_s=None if not begun or start is None else round(start, 1),
                finish_s=round(happened.settled_s or 0.0, 1) if settled else None,
                critical=step.id in critical,
                code=happened.code, reason=happened.reason, tries=happened.tries,
            )
        )  # fmt: skip
    return tuple(rows)
