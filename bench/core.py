"""Ratios of the core on synthetic plans: ``python -m bench.core [workloads ...]``. Asserts nothing.

Each time is the best of three, beside what it is compared with; machines are noisy, so trust the ratios.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from tests import worlds

from bench.worlds import inputs
from maestoso.core.forecast.monte_carlo import forecast
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.isolated_test import compile_test
from maestoso.core.runs.progress import overhead
from maestoso.core.runs.state import fold
from maestoso.core.scheduling.list_schedule import list_schedule, lower_bound
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.spec import Replica

SAMPLES = 400


def best(work: Callable[[], Any]) -> tuple[float, Any]:
    """Seconds of the quickest of three, and what it gave."""
    times = []
    for _ in range(3):
        begin = time.perf_counter()
        result = work()
        times.append(time.perf_counter() - begin)
    return min(times), result


def main() -> None:
    """Print a block per size."""
    for size in [int(text) for text in sys.argv[1:]] or [100, 1000]:
        compare(size)


def compare(size: int) -> None:
    """One size."""
    made = inputs(size)
    compiling, graph = best(lambda: compile_test(made))
    medians = [made.estimates[step.id].median_s for step in graph.steps]
    scheduling, schedule = best(lambda: list_schedule(graph, medians, made.limits))
    bound = by_waves(graph, made)
    casting, _ = best(lambda: forecast(graph, made.estimates, made.limits, 3600.0, samples=SAMPLES))
    edges = sum(len(preds) for preds in graph.preds)
    print(f"\n{size} workloads: {len(graph)} steps, {edges} edges")
    print(f"  compile                       {compiling * 1e3:9.1f} ms")
    print(f"  list schedule                 {scheduling * 1e3:9.1f} ms")
    print(f"  makespan over its lower bound {schedule.makespan_s / bound:9.4f}")
    print(f"  forecast, {SAMPLES} samples         {casting * 1e3:9.1f} ms")
    one_by_one = scheduling * SAMPLES
    print(f"  the same, one by one          {one_by_one * 1e3:9.1f} ms, {one_by_one / casting:.0f} x")
    replica = Replica(
        group=replace(worlds.GROUP, members=tuple(w.name for w in made.workloads)),
        profile=worlds.ChangeProfile(usual_bps=1e6),
    )
    world = worlds.world(
        replicas=(replica,),
        copied=worlds.Inventory(workloads=made.workloads),
        inventory=worlds.target(
            host_pools=(worlds.HostPool(name="b-hosts", hosts=1, cores=10**6, memory_mib=10**9),)
        ),
    )
    rehearsal = Rehearsal("r1", made, {"B": world}, worlds.NOW, "bench")
    begin = time.perf_counter()
    state = rehearsal.play(worlds.judge)
    playing = time.perf_counter() - begin
    folding, _ = best(lambda: fold(rehearsal.log))
    ratio = state.run_s / playing
    print(
        f"  rehearsal of {state.run_s / 60:6.0f} min         {playing * 1e3:9.1f} ms, {ratio:.0f} x real time"
    )
    print(f"  fold of {len(rehearsal.log):6d} events         {folding * 1e3:9.1f} ms")
    print(f"  machine time over its schedule {overhead(state) or 0:8.4f}")


def by_waves(graph: StepGraph, made: RunInputs) -> float:
    """The sum of the lower bounds of what the waves keep apart: no step of one overlaps with one of another."""
    apart: dict[tuple[str, int | None], list[Step]] = {}
    for step in graph.steps:
        begins = step.phase in ("prepare", "bring-up")
        part = (step.phase, step.wave if step.phase == "bring-up" else None) if begins else ("end", None)
        apart.setdefault(part, []).append(step)
    total = 0.0
    for steps in apart.values():
        names = {step.id for step in steps}
        inside = [
            replace(
                step,
                after=tuple(one for one in step.after if one in names),
                delay_from=tuple(one for one in step.delay_from if one in names),
            )
            for step in steps
        ]
        alone = StepGraph(inside)
        total += lower_bound(alone, [made.estimates[step.id].median_s for step in alone.steps], made.limits)
    return total


if __name__ == "__main__":
    main()
