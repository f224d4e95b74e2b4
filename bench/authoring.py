"""Plans against common libraries: ``python -m bench.authoring [workloads ...]``. Asserts nothing.

Order and longest path against networkx, schedules with limits against simpy, Monte Carlo against the same
schedule sample by sample in plain Python; and what a person waits for while editing. Best of three.
"""

from __future__ import annotations

import sys
from collections.abc import Generator
from dataclasses import replace
from typing import Any

import networkx
import simpy
from tests import worlds

from bench.core import best
from bench.worlds import context, inputs
from maestoso.core.forecast.monte_carlo import forecast
from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import StepGraph, topological_order
from maestoso.core.planning.isolated_test import compile_test
from maestoso.core.readiness.assess import Options, assess
from maestoso.core.scheduling.list_schedule import capacity, list_schedule, tails

SAMPLES = 200


def main() -> None:
    """Print a block per size."""
    for size in [int(text) for text in sys.argv[1:]] or [500, 2000]:
        compare(size)


def compare(size: int) -> None:
    """One size."""
    made = inputs(size)
    compiling, graph = best(lambda: compile_test(made))
    medians = [made.estimates[step.id].median_s for step in graph.steps]
    names, after = [step.id for step in graph.steps], {step.id: step.after for step in graph.steps}
    ordering, _ = best(lambda: (topological_order(names, after), tails(graph, medians)))
    library, _ = best(lambda: longest(graph, medians))
    scheduling, schedule = best(lambda: list_schedule(graph, medians, made.limits))
    simulating, end = best(lambda: simulated(graph, medians, made.limits))
    casting, _ = best(lambda: forecast(graph, made.estimates, made.limits, 3600.0, samples=SAMPLES))
    ctx = context(size)
    judging, _ = best(lambda: assess(replace(ctx), Options(points={"shop": worlds.POINT}), "t1", {}))
    print(f"\n{size} workloads: {len(graph)} steps")
    print(f"  compile                                {compiling * 1e3:9.0f} ms")
    print(
        f"  order, cycle check, longest path       {ordering * 1e3:9.0f} ms, networkx {library / ordering:6.1f} x"
    )
    print(
        f"  schedule with limits                   {scheduling * 1e3:9.0f} ms, simpy    {simulating / scheduling:6.1f} x"
    )
    print(f"  its end over that of simpy             {schedule.makespan_s / end:9.3f}")
    print(
        f"  Monte Carlo, {SAMPLES} samples with limits    {casting * 1e3:9.0f} ms, one by one {scheduling * SAMPLES / casting:4.0f} x"
    )
    print(f"  findings, forecast, score: an edit     {judging * 1e3:9.0f} ms")


def longest(graph: StepGraph, durations: list[float]) -> list[Any]:
    """The same with networkx."""
    made = networkx.DiGraph()
    made.add_nodes_from(range(len(graph)))
    for position, preds in enumerate(graph.waits):
        made.add_weighted_edges_from((pred, position, durations[pred] + lag) for pred, lag in preds)
    return list(networkx.dag_longest_path(made))


def simulated(graph: StepGraph, durations: list[float], limits: SiteLimits) -> float:
    """The same with simpy, longest remaining path first."""
    env = simpy.Environment()
    slots = {s: simpy.PriorityResource(env, capacity(limits, s)) for s in ("power", "copies", "clones")}  # type: ignore[arg-type]
    tail = tails(graph, durations)
    done = [env.event() for _ in graph.steps]

    def step(position: int) -> Generator[Any, Any, None]:
        begun = [done[pred] for pred, _ in graph.waits[position]]
        if begun:
            yield simpy.AllOf(env, begun)
        lag = max((lag for _, lag in graph.waits[position]), default=0.0)
        if lag:
            yield env.timeout(lag)
        slot = graph.steps[position].slot
        if slot is None:
            yield env.timeout(durations[position])
        else:
            with slots[slot].request(priority=-tail[position]) as request:
                yield request
                yield env.timeout(durations[position])
        done[position].succeed()

    for position in range(len(graph)):
        env.process(step(position))
    env.run()
    return float(env.now)


if __name__ == "__main__":
    main()
