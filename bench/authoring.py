"""Plans against common libraries: ``python -m bench.authoring [workloads ...]``. Asserts nothing.

Order and longest path against networkx, schedules with limits against simpy, Monte Carlo against the same
schedule sample by sample in plain Python; and what a person waits for while editing. Best of three.
"""

from __future__ import annotations

import random
import sys
from collections.abc import Generator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import networkx
import numpy as np
import simpy
from tests import worlds

from bench.core import best
from bench.worlds import context, inputs
from maestoso.core.forecast.monte_carlo import forecast
from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import Estimate
from maestoso.core.planning.isolated_test import compile_test
from maestoso.core.readiness.assess import Options, assess
from maestoso.core.scheduling.list_schedule import capacity, list_schedule, tails

SAMPLES, FREE_SAMPLES = 200, 1000
LOOPED = 10
"""So many samples are drawn in loops; more take as long each."""


def main() -> None:
    """Print a block per size."""
    for size in [int(text) for text in sys.argv[1:]] or [500, 2000]:
        compare(size)


def compare(size: int) -> None:
    """One size."""
    made = inputs(size)
    compiling, graph = best(lambda: compile_test(made))
    medians = [made.estimates[step.id].median_s for step in graph.steps]
    arcs, seconds = graph.levels.arcs, np.array(medians)
    ordering, _ = best(lambda: (arcs.levels(), graph.levels.tails(seconds)))
    plainly, _ = best(lambda: plain(graph.preds, graph.waits, medians))
    copying, _ = best(
        lambda: (arcs.first.copy(), arcs.pred.copy(), graph.levels.lag_s.copy(), seconds.copy())
    )
    library, _ = best(lambda: longest(graph, medians))
    scheduling, schedule = best(lambda: list_schedule(graph, medians, made.limits))
    simulating, end = best(lambda: simulated(graph, medians, made.limits))
    casting, _ = best(lambda: forecast(graph, made.estimates, made.limits, 3600.0, samples=SAMPLES))
    free = SiteLimits(power=10**6, copies=10**6, clones=10**6)
    freely, _ = best(lambda: forecast(graph, made.estimates, free, 3600.0, samples=FREE_SAMPLES))
    loops, _ = best(lambda: in_loops(graph, made.estimates, LOOPED))
    ctx = context(size)
    judging, _ = best(
        lambda: assess(replace(ctx), Options(points={"shop": worlds.POINT}), "t1", {}, whole=False)
    )
    print(f"\n{size} workloads: {len(graph)} steps")
    print(f"  compile                                {compiling * 1e3:9.0f} ms")
    print(
        f"  order, cycle check, longest path       {ordering * 1e3:9.1f} ms, networkx {library / ordering:6.1f} x,"
        f" loops {plainly / ordering:.1f} x, {ordering / copying:.0f} copies"
    )
    print(
        f"  schedule with limits                   {scheduling * 1e3:9.0f} ms, simpy    {simulating / scheduling:6.1f} x"
    )
    print(f"  its end over that of simpy             {schedule.makespan_s / end:9.3f}")
    print(
        f"  Monte Carlo, {SAMPLES} samples with limits    {casting * 1e3:9.0f} ms, one by one {scheduling * SAMPLES / casting:4.0f} x"
    )
    print(
        f"  Monte Carlo, {FREE_SAMPLES} samples without limits {freely * 1e3:8.0f} ms, loops"
        f"      {loops / LOOPED * FREE_SAMPLES / freely:4.0f} x"
    )
    print(f"  findings, forecast, score: an edit     {judging * 1e3:9.0f} ms")


def plain(
    preds: Sequence[Sequence[int]], waits: Sequence[Sequence[tuple[int, float]]], durations: list[float]
) -> list[float]:
    """Order and longest path in loops over flat lists."""
    waiting = [len(its) for its in preds]
    behind: list[list[int]] = [[] for _ in preds]
    for at, its in enumerate(preds):
        for pred in its:
            behind[pred].append(at)
    order = [at for at, count in enumerate(waiting) if not count]
    for at in order:
        for succ in behind[at]:
            waiting[succ] -= 1
            if not waiting[succ]:
                order.append(succ)
    return longest_paths([waits[at] for at in order], durations)


def longest_paths(waits: Sequence[Sequence[tuple[int, float]]], durations: list[float]) -> list[float]:
    """Ends of all steps, in order, in loops."""
    ends: list[float] = []
    for at, its in enumerate(waits):
        ends.append(max((ends[pred] + lag for pred, lag in its), default=0.0) + durations[at])
    return ends


def in_loops(
    graph: StepGraph, estimates: Mapping[str, Estimate], samples: int
) -> tuple[list[float], list[int]]:
    """What a forecast without limits is made of, sample by sample: the ends, and how often each step held one up."""
    chosen = random.Random(7)
    expected = [(estimates[step.id].median_s, estimates[step.id].sigma) for step in graph.steps]
    last, often = [], [0] * len(graph)
    for _ in range(samples):
        durations = [median * chosen.lognormvariate(0.0, sigma) for median, sigma in expected]
        ends = longest_paths(graph.waits, durations)
        last.append(max(ends))
        holds_up = [end == last[-1] for end in ends]
        for at in range(len(graph) - 1, -1, -1):
            if holds_up[at]:
                often[at] += 1
                begun = ends[at] - durations[at]
                for pred, lag in graph.waits[at]:
                    if abs(ends[pred] + lag - begun) < 1e-6:
                        holds_up[pred] = True
    return last, often


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
