"""List scheduling: among the steps that could start, the one with the longest remaining path goes first.

Reference: Graham, 'Bounds on multiprocessing timing anomalies' (1969); the priority is the critical-path
priority of Kohler (1975).
"""

from __future__ import annotations

import heapq
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import Slot, StepGraph


@dataclass(frozen=True, slots=True, kw_only=True)
class Pinned:
    """A step that has already begun; ``finish_s`` is None while it goes on."""

    start_s: float
    finish_s: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Schedule:
    """Start and finish of every step in machine seconds, by position in the graph; ``order`` of starts."""

    start_s: tuple[float, ...]
    finish_s: tuple[float, ...]
    order: tuple[int, ...]
    makespan_s: float


def tails(graph: StepGraph, durations_s: Sequence[float]) -> list[float]:
    """Longest path from the start of each step to the end of the graph, in seconds."""
    found: list[float] = graph.levels.tails(np.asarray(durations_s, dtype=np.float64)).tolist()
    return found


def earliest(graph: StepGraph, position: int, finish_s: Sequence[float]) -> float:
    """When the step may start as far as what it waits for is concerned."""
    found = 0.0
    for pred, lag in graph.waits[position]:
        if finish_s[pred] + lag > found:
            found = finish_s[pred] + lag
    return found


def capacity(limits: SiteLimits, slot: Slot) -> int:
    """How many steps of this class the site carries out at once."""
    return {"power": limits.power, "copies": limits.copies, "clones": limits.clones}[slot]


def list_schedule(
    graph: StepGraph,
    durations_s: Sequence[float],
    limits: SiteLimits,
    pinned: Mapping[int, Pinned] | None = None,
    now_s: float = 0.0,
    tail: Sequence[float] | None = None,
) -> Schedule:
    """Schedule every step; those in ``pinned`` keep their times, no other starts before ``now_s``.

    ``durations_s`` is in the order of ``graph.steps``, and so is ``tail``, the remaining paths by which steps
    are preferred where they are not those of the durations. Time is O((steps + edges) log steps).
    """
    tail = tails(graph, durations_s) if tail is None else tail
    start, finish = _laid(graph, durations_s, limits, tail, pinned or {}, now_s)
    # At one moment, what takes no time had its slot before what takes some.
    spans = list(zip(start, finish, strict=True))
    return Schedule(
        start_s=tuple(start),
        finish_s=tuple(finish),
        order=tuple(sorted(range(len(graph)), key=spans.__getitem__)),
        makespan_s=max(finish, default=0.0),
    )


def makespan(
    graph: StepGraph, durations_s: Sequence[float], limits: SiteLimits, tail: Sequence[float] | None = None
) -> float:
    """When the last step of that schedule ends, in seconds: what is not asked for is not put in order."""
    tail = tails(graph, durations_s) if tail is None else tail
    return max(_laid(graph, durations_s, limits, tail, {}, 0.0)[1], default=0.0)


def _laid(
    graph: StepGraph, durations_s: Sequence[float], limits: SiteLimits, tail: Sequence[float],
    pinned: Mapping[int, Pinned], now_s: float,
) -> tuple[list[float], list[float]]:  # fmt: skip
    """Start and finish of every step."""
    count = len(graph)
    start, finish = [0.0] * count, [0.0] * count
    slots, waits, succs = [step.slot for step in graph.steps], graph.waits, graph.succs
    waiting = [len(preds) for preds in graph.preds]
    queues: dict[Slot, list[tuple[float, int]]] = {"power": [], "copies": [], "clones": []}
    free = {slot: capacity(limits, slot) for slot in queues}
    # Only what takes a slot is an event: all else ends at a time that is known once its own begin is.
    events: list[tuple[float, int, int]] = []  # time, 0 = gives its slot back / 1 = wants one, step
    known: list[int] = []  # steps whose end is known, and those behind them were not told yet

    def tell() -> None:
        while known:
            for succ in succs[known.pop()]:
                waiting[succ] -= 1
                if waiting[succ] == 0 and succ not in pinned:
                    wish(succ)

    def wish(position: int) -> None:
        # As :func:`earliest`, written out: this is the innermost loop of every forecast.
        may = now_s
        for pred, lag in waits[position]:
            if finish[pred] + lag > may:
                may = finish[pred] + lag
        if slots[position] is None:
            start[position], finish[position] = may, may + durations_s[position]
            known.append(position)
        else:
            heapq.heappush(events, (may, 1, position))

    for position, begun in pinned.items():
        usual = max(begun.start_s + durations_s[position], now_s)
        start[position] = begun.start_s
        finish[position] = usual if begun.finish_s is None else begun.finish_s
        slot = slots[position]
        if slot and begun.finish_s is None:
            free[slot] -= 1
            heapq.heappush(events, (finish[position], 0, position))
        known.append(position)
    for position in range(count):
        if waiting[position] == 0 and position not in pinned:
            wish(position)
    tell()
    while events:
        time = events[0][0]
        while events and events[0][0] == time:
            _, wants, position = heapq.heappop(events)
            slot = slots[position]
            if slot is None:
                raise AssertionError("only what takes a slot is an event")
            if wants:
                heapq.heappush(queues[slot], (-tail[position], position))
            else:
                free[slot] += 1
        for slot, queue in queues.items():
            while queue and free[slot] > 0:
                free[slot] -= 1
                position = heapq.heappop(queue)[1]
                start[position], finish[position] = time, time + durations_s[position]
                heapq.heappush(events, (finish[position], 0, position))
                known.append(position)
        tell()
    return start, finish


def critical_path(graph: StepGraph, schedule: Schedule) -> tuple[str, ...]:
    """Steps from the last to finish back to the start, each held up by the one before it, in run order."""
    if not schedule.order:
        return ()
    # Whoever waited for a slot began when another gave it back: found by slot and moment.
    freed: dict[tuple[Slot, float], list[int]] = {}
    for position in schedule.order:
        slot = graph.steps[position].slot
        if slot:
            freed.setdefault((slot, round(schedule.finish_s[position], 5)), []).append(position)
    position = max(schedule.order, key=lambda p: schedule.finish_s[p])
    path = [position]
    while True:
        start = schedule.start_s[position]
        holding = [
            pred for pred, lag in graph.waits[position] if abs(schedule.finish_s[pred] + lag - start) < 1e-6
        ]
        slot = graph.steps[position].slot
        if not holding and slot:
            holding = [other for other in freed.get((slot, round(start, 5)), ()) if other != position]
        if not holding or start <= 0:
            break
        position = max(holding, key=lambda p: (schedule.finish_s[p] - schedule.start_s[p], -p))
        if position in path:
            break
        path.append(position)
    return tuple(graph.steps[position].id for position in reversed(path))


def lower_bound(graph: StepGraph, durations_s: Sequence[float], limits: SiteLimits) -> float:
    """No schedule under these limits can be shorter than this, in seconds.

    The greater of the critical path and, for every slot class and every head threshold h: h, plus the work
    of steps whose head (earliest start without limits) is at least h, shared over the slots, plus the
    shortest tail behind them.
    """
    head: list[float] = graph.levels.heads(np.asarray(durations_s, dtype=np.float64)).tolist()
    tail = tails(graph, durations_s)
    bound = max(tail, default=0.0)
    by_slot: dict[Slot, list[int]] = {}
    for position, step in enumerate(graph.steps):
        if step.slot:
            by_slot.setdefault(step.slot, []).append(position)
    for slot, positions in by_slot.items():
        work, behind = 0.0, float("inf")
        for position in sorted(positions, key=lambda p: -head[p]):
            work += durations_s[position]
            behind = min(behind, tail[position] - durations_s[position])
            bound = max(bound, head[position] + work / capacity(limits, slot) + behind)
    return bound
