"""Monte Carlo over step durations, with the site's limits in force."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import TO_READY, Slot, StepGraph
from maestoso.core.planning.inputs import Estimate
from maestoso.core.scheduling.list_schedule import (
    Schedule,
    capacity,
    critical_path,
    earliest,
    list_schedule,
    tails,
)

Samples = NDArray[np.float32]

SHUFFLES = 64
"""Stratified orders of the same normal quantiles; each step takes one of them, turned by some places."""
EXACT = 16
"""Samples that are scheduled one by one, to see how far the fixed order of starts is from it."""
EXACT_STEPS = 12_000
"""How many steps may be scheduled one by one for that: people wait for a forecast while they edit."""
BINDS = 0.002
"""Share of waiting for a slot, below which the order of starts cannot matter."""
TIES_S = np.float32(0.01)
MANY_PREDS = 6
"""What waits for this many is worked out for all of them at once."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Forecast:
    """Seconds of machine time until the last step that counts for the objective.

    ``likely`` is the schedule with median durations; ``spread_s[i]`` is the p10 and p90 finish of step i;
    ``criticality[i]`` the share of samples in which step i held up the end; ``chance`` the share within
    the objective.
    """

    p10_s: float
    p50_s: float
    p80_s: float
    p95_s: float
    chance: float
    likely: Schedule
    critical: tuple[str, ...]
    spread_s: tuple[tuple[float, float], ...]
    criticality: tuple[float, ...]


def forecast(
    graph: StepGraph,
    estimates: Mapping[str, Estimate],
    limits: SiteLimits,
    objective_s: float,
    samples: int = 400,
    seed: int = 7,
) -> Forecast:
    """Forecast the steps of ``graph`` that have a phase before 'judge'; the rest is not part of the RTO.

    Durations are drawn by stratified sampling of a lognormal, ``exp(log(median) + sigma * ndtri(u))``. In
    each sample, slots are given out in the start order of the median schedule; where slots are waited for,
    the ends are corrected by schedules of some of the same samples one by one, since a real run gives a slot
    to whoever comes first.
    """
    counted = [index for index, step in enumerate(graph.steps) if step.phase in TO_READY]
    if not counted:
        nothing = Schedule(
            start_s=(0.0,) * len(graph), finish_s=(0.0,) * len(graph), order=(), makespan_s=0.0
        )
        return Forecast(
            p10_s=0.0, p50_s=0.0, p80_s=0.0, p95_s=0.0, chance=1.0, likely=nothing, critical=(),
            spread_s=((0.0, 0.0),) * len(graph), criticality=(0.0,) * len(graph),
        )  # fmt: skip
    sub = graph.part(counted)
    medians = [estimates[step.id].median_s for step in sub.steps]
    tail = tails(sub, medians)
    likely_sub = list_schedule(sub, medians, limits, tail=tail)
    drawn = _draw([estimates[step.id] for step in sub.steps], samples, seed)
    start, finish, owners, waited = _sample(sub, drawn, limits, likely_sub.order)
    ends = finish.max(axis=0).astype(np.float64)
    if waited > BINDS:
        ends = _corrected(sub, drawn, limits, ends, tail)
    critical = _criticality(sub, start, finish, owners, likely_sub.order)
    shown = [at for at, step in enumerate(sub.steps) if step.phase == "bring-up"]
    spread = [(0.0, 0.0)] * len(graph)
    if shown:
        low, high = np.percentile(finish[shown], (10, 90), axis=1)
        for place, at in enumerate(shown):
            spread[counted[at]] = (float(low[place]), float(high[place]))
    p10, p50, p80, p95 = np.percentile(ends, (10, 50, 80, 95))
    criticality = [0.0] * len(graph)
    for at, position in enumerate(counted):
        criticality[position] = float(critical[at])
    return Forecast(
        p10_s=float(p10),
        p50_s=float(p50),
        p80_s=float(p80),
        p95_s=float(p95),
        chance=float((ends <= objective_s).mean()),
        likely=_whole(graph, counted, likely_sub, estimates),
        critical=critical_path(sub, likely_sub),
        spread_s=tuple(spread),
        criticality=tuple(criticality),
    )


def _whole(
    graph: StepGraph, counted: Sequence[int], sub: Schedule, estimates: Mapping[str, Estimate]
) -> Schedule:
    """The schedule with what comes behind laid as soon as it can: nobody waits for that."""
    start, finish = [0.0] * len(graph), [0.0] * len(graph)
    for at, position in enumerate(counted):
        start[position], finish[position] = sub.start_s[at], sub.finish_s[at]
    inside = set(counted)
    for position, step in enumerate(graph.steps):
        if position not in inside:
            start[position] = earliest(graph, position, finish)
            finish[position] = start[position] + estimates[step.id].median_s
    order = tuple(sorted(range(len(graph)), key=start.__getitem__))
    return Schedule(
        start_s=tuple(start), finish_s=tuple(finish), order=order, makespan_s=max(finish, default=0.0)
    )


def _draw(expected: Sequence[Estimate], samples: int, seed: int) -> Samples:
    """Durations, shape (steps, samples), float32. Each step's are stratified over the samples."""
    rng = np.random.default_rng(seed)
    quantiles = ndtri((np.arange(samples)[None, :] + rng.random((SHUFFLES, samples))) / samples)
    shuffled = rng.permuted(quantiles, axis=1).astype(np.float32)
    doubled = np.concatenate((shuffled, shuffled), axis=1)
    rows = rng.integers(0, SHUFFLES, len(expected))
    turned = rng.integers(0, samples, len(expected))
    windows = np.lib.stride_tricks.sliding_window_view(doubled, samples, axis=1)
    drawn: Samples = windows[rows, turned]
    drawn *= np.array([one.sigma for one in expected], dtype=np.float32)[:, None]
    np.exp(drawn, out=drawn)
    drawn *= np.array([max(one.median_s, 0.0) for one in expected], dtype=np.float32)[:, None]
    return drawn


def _sample(
    graph: StepGraph, drawn: Samples, limits: SiteLimits, order: tuple[int, ...]
) -> tuple[Samples, Samples, dict[int, NDArray[np.intp]], float]:
    """Start and finish, shape (steps, samples); per slotted step who had its slot before, per sample; and the
    share of all time that was spent waiting for slots."""
    samples = drawn.shape[1]
    start = np.zeros(drawn.shape, dtype=np.float32)
    finish = np.zeros(drawn.shape, dtype=np.float32)
    scarce = _scarce(graph, limits)
    free: dict[Slot, Samples] = {
        slot: np.zeros((size, samples), dtype=np.float32) for slot, size in scarce.items()
    }
    holder = {slot: np.full((size, samples), -1, dtype=np.intp) for slot, size in scarce.items()}
    owners: dict[int, NDArray[np.intp]] = {}
    column = np.arange(samples)
    waited = 0.0
    for position in order:
        slot, ready = graph.steps[position].slot, start[position]
        waits = graph.waits[position]
        if len(waits) < MANY_PREDS:
            for pred, lag in waits:
                np.maximum(ready, finish[pred] + np.float32(lag) if lag else finish[pred], out=ready)
        else:
            preds, lags = _apart(graph, position)
            (finish[preds] + lags).max(axis=0, out=ready)
        if slot in free:
            slots, held = free[slot], holder[slot]
            first = slots.argmin(axis=0)
            freed = slots[first, column]
            owners[position] = np.where(freed > ready, held[first, column], -1)
            waited += float(np.maximum(freed - ready, 0.0).sum())
            np.maximum(ready, freed, out=ready)
            np.add(ready, drawn[position], out=finish[position])
            slots[first, column] = finish[position]
            held[first, column] = position
        else:
            np.add(ready, drawn[position], out=finish[position])
    return start, finish, owners, waited / max(float(finish.max(axis=0).sum()), 1.0)


def _scarce(graph: StepGraph, limits: SiteLimits) -> dict[Slot, int]:
    """The slots of each class that has fewer of them than steps: for the others nobody ever waits."""
    wanted = Counter(step.slot for step in graph.steps if step.slot)
    return {slot: size for slot, count in wanted.items() if (size := capacity(limits, slot)) < count}


def _apart(graph: StepGraph, position: int) -> tuple[NDArray[np.int64], Samples]:
    """What a step waits for, and the seconds that must pass since then, shape (steps, 1)."""
    arcs = slice(*graph.network.arcs.first[position : position + 2])
    return graph.network.arcs.pred[arcs], graph.network.lag_s[arcs, None].astype(np.float32)


def _corrected(
    graph: StepGraph,
    drawn: Samples,
    limits: SiteLimits,
    ends: NDArray[np.float64],
    tail: Sequence[float],
) -> NDArray[np.float64]:
    """Ends as they are when a slot goes to whoever comes first, by a line through some exact schedules."""
    by_end = np.argsort(ends)
    count = min(max(EXACT_STEPS // max(len(graph), 1), 3), EXACT, len(ends))
    chosen = by_end[np.linspace(0, len(ends) - 1, count).round().astype(int)]
    # As a run does it: who goes first is decided by what is expected, not by what will turn out.
    exact = [list_schedule(graph, drawn[:, at].tolist(), limits, tail=tail).makespan_s for at in chosen]
    if np.ptp(ends[chosen]) < 1.0:
        shifted: NDArray[np.float64] = ends + (float(np.mean(exact)) - float(ends[chosen].mean()))
        return shifted
    slope, height = np.polyfit(ends[chosen], exact, 1)
    lined: NDArray[np.float64] = slope * ends + height
    return lined


def _criticality(
    graph: StepGraph,
    start: Samples,
    finish: Samples,
    owners: Mapping[int, NDArray[np.intp]],
    order: tuple[int, ...],
) -> NDArray[np.float64]:
    """Share of samples in which a delay of the step would have delayed the end.

    Walks backwards from the last finish. Times are float32; a step that ties with
    another within a hundredth of a second is counted with it.
    """
    critical = finish >= finish.max(axis=0) - TIES_S
    column = np.arange(start.shape[1])
    for position in reversed(order):
        here = critical[position]
        if not here.any():
            continue
        waits = graph.waits[position]
        if len(waits) == 1 and position not in owners:
            critical[waits[0][0]] |= here  # nothing else can have held it up
        elif len(waits) < MANY_PREDS:
            for pred, lag in waits:
                critical[pred] |= here & (np.abs(finish[pred] + np.float32(lag) - start[position]) <= TIES_S)
        else:
            preds, lags = _apart(graph, position)
            critical[preds] |= here & (np.abs(finish[preds] + lags - start[position]) <= TIES_S)
        if position in owners:
            before = owners[position]
            held_up = here & (before >= 0)
            critical[before[held_up], column[held_up]] = True
    return np.asarray(critical.mean(axis=1))
