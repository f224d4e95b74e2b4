"""Monte Carlo over step durations, with the site's limits in force."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import TO_READY, Slot, StepGraph
from maestoso.core.planning.inputs import Estimate
from maestoso.core.scheduling.list_schedule import (
    Schedule,
    capacity,
    critical_path,
    list_schedule,
    makespan,
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
    sampled = _sample(sub, drawn, limits, likely_sub.order)
    ends = sampled.finish.max(axis=0).astype(np.float64)
    if sampled.waited > BINDS:
        ends = _corrected(sub, drawn, limits, ends, tail)
    critical = _criticality(sub, drawn, sampled, likely_sub.order)
    shown = [at for at, step in enumerate(sub.steps) if step.phase == "bring-up"]
    spread = [(0.0, 0.0)] * len(graph)
    if shown:
        # Sorting all of it takes a tenth of the time in which two percentiles of every row are picked out.
        ranks = np.rint(np.array((0.1, 0.9)) * (samples - 1)).astype(int)
        for at, (low, high) in zip(
            shown, np.sort(sampled.finish[shown], axis=1)[:, ranks].tolist(), strict=True
        ):
            spread[counted[at]] = (low, high)
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
    arcs, lag_s = graph.levels.arcs, graph.levels.lag_s
    for position, step in enumerate(graph.steps):
        if position not in inside:
            waits = range(arcs.first[position], arcs.first[position + 1])
            start[position] = max((finish[arcs.pred[at]] + float(lag_s[at]) for at in waits), default=0.0)
            finish[position] = start[position] + estimates[step.id].median_s
    order = tuple(sorted(range(len(graph)), key=start.__getitem__))
    return Schedule(
        start_s=tuple(start), finish_s=tuple(finish), order=order, makespan_s=max(finish, default=0.0)
    )


def _draw(expected: Sequence[Estimate], samples: int, seed: int) -> Samples:
    """Durations, shape (steps, samples), float32. Each step's are stratified over the samples."""
    rng = np.random.default_rng(seed)
    from scipy.special import ndtri  # loaded where it is used: it takes long

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


@dataclass(frozen=True, slots=True)
class _Sampled:
    """``finish`` has the shape (steps, samples); ``owners``, per step with a slot, who had its slot before,
    per sample. ``waited`` is the share of all time that was spent waiting for slots."""

    finish: Samples
    owners: dict[int, NDArray[np.intp]]
    waited: float


def _sample(graph: StepGraph, drawn: Samples, limits: SiteLimits, order: tuple[int, ...]) -> _Sampled:
    """All samples at once, step by step in the order given."""
    samples = drawn.shape[1]
    finish = np.zeros(drawn.shape, dtype=np.float32)
    # A view is made of every row once, because making one takes as long as adding two of them.
    ends, lasts = list(finish), list(drawn)
    scarce = _scarce(graph, limits)
    free = {slot: np.zeros(size * samples, dtype=np.float32) for slot, size in scarce.items()}
    holder = {slot: np.full(size * samples, -1, dtype=np.intp) for slot, size in scarce.items()}
    first = {slot: np.arange(samples) * size for slot, size in scarce.items()}
    owners: dict[int, NDArray[np.intp]] = {}
    slots, waits = [step.slot for step in graph.steps], graph.waits
    waited = np.zeros(samples)
    for position in order:
        slot, before = slots[position], waits[position]
        taken = slot is not None and slot in free
        if len(before) == 1 and not taken:
            ((pred, lag),) = before
            np.add(ends[pred], lasts[position], out=ends[position])
            if lag:
                ends[position] += np.float32(lag)
            continue
        ready = _ready(graph, position, finish, ends)
        if slot is not None and taken:
            waited -= ready
            places = free[slot]
            chosen = places.reshape(samples, -1).argmin(axis=1)
            chosen += first[slot]
            np.maximum(ready, places.take(chosen), out=ready)
            waited += ready
            owners[position] = holder[slot].take(chosen)
            np.add(ready, lasts[position], out=ends[position])
            places[chosen] = ends[position]
            holder[slot][chosen] = position
        else:
            np.add(ready, lasts[position], out=ends[position])
    return _Sampled(finish, owners, float(waited.sum()) / max(float(finish.max(axis=0).sum()), 1.0))


def _ready(graph: StepGraph, position: int, finish: Samples, ends: Sequence[Samples]) -> Samples:
    """When all that a step waits for is over; ``ends`` are the rows of ``finish``."""
    waits = graph.waits[position]
    if len(waits) >= MANY_PREDS:
        preds, lags = _apart(graph, position)
        latest: Samples = (finish[preds] + lags).max(axis=0)
        return latest
    ready = np.zeros(finish.shape[1], dtype=np.float32)
    for pred, lag in waits:
        np.maximum(ready, ends[pred] + np.float32(lag) if lag else ends[pred], out=ready)
    return ready


def _scarce(graph: StepGraph, limits: SiteLimits) -> dict[Slot, int]:
    """The slots of each class that has fewer of them than steps: for the others nobody ever waits."""
    wanted = Counter(step.slot for step in graph.steps if step.slot)
    return {slot: size for slot, count in wanted.items() if (size := capacity(limits, slot)) < count}


def _apart(graph: StepGraph, position: int) -> tuple[NDArray[np.int64], Samples]:
    """What a step waits for, and the seconds that must pass since then, shape (steps, 1)."""
    arcs = slice(*graph.levels.arcs.first[position : position + 2])
    return graph.levels.arcs.pred[arcs], graph.levels.lag_s[arcs, None].astype(np.float32)


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
    exact = [makespan(graph, drawn[:, at].tolist(), limits, tail) for at in chosen]
    if np.ptp(ends[chosen]) < 1.0:
        shifted: NDArray[np.float64] = ends + (float(np.mean(exact)) - float(ends[chosen].mean()))
        return shifted
    slope, height = np.polyfit(ends[chosen], exact, 1)
    lined: NDArray[np.float64] = slope * ends + height
    return lined


def _criticality(
    graph: StepGraph, drawn: Samples, sampled: _Sampled, order: tuple[int, ...]
) -> NDArray[np.float64]:
    """Share of samples in which a delay of the step would have delayed the end.

    Walks backwards from the last finish. Times are float32; a step that ties with another within a hundredth
    of a second, or as far as such times are told apart in a run of days, is counted with it.
    """
    finish, owners = sampled.finish, sampled.owners
    latest = finish.max(axis=0)
    ties_s = np.maximum(TIES_S, 4 * np.spacing(latest.max()))
    critical = finish >= latest - ties_s
    # Nothing that a step waits for ends after it begins, so what ends as late as it begins has held it up.
    begun = finish - drawn
    begun -= ties_s
    ends, begins, rows = list(finish), list(begun), list(critical)
    column = np.arange(finish.shape[1])
    reached = bytearray(critical.any(axis=1).tobytes())
    marks = np.frombuffer(reached, dtype=np.bool_)  # the same memory, to be marked many at once
    for position in reversed(order):
        here = rows[position]
        if not reached[position] or not here.any():
            continue
        waits, before = graph.waits[position], owners.get(position)
        if len(waits) == 1 and before is None:  # nothing else can have held it up
            rows[waits[0][0]] |= here
            reached[waits[0][0]] = True
            continue
        begins_at = begins[position]
        if len(waits) < MANY_PREDS:
            for pred, lag in waits:
                held_up = (ends[pred] + np.float32(lag) if lag else ends[pred]) >= begins_at
                held_up &= here
                rows[pred] |= held_up
        else:
            preds, lags = _apart(graph, position)
            critical[preds] |= here & (finish[preds] + lags >= begins_at)
        for pred, _ in waits:
            reached[pred] = True
        if before is not None:
            cells = before * len(column) + column
            held_up = here & (before >= 0) & (finish.take(cells) >= begins_at)
            critical.put(cells[held_up], True)
            marks[before[held_up]] = True
    return np.asarray(critical.mean(axis=1))
