"""Monte Carlo over step durations, with the site's limits in force."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import Slot, StepGraph
from maestoso.core.planning.inputs import Estimate
from maestoso.core.scheduling.list_schedule import Schedule, capacity, critical_path, list_schedule

Samples = NDArray[np.float64]


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

    Durations are drawn by stratified sampling of a lognormal, ``exp(log(median) + sigma * ndtri(u))``.
    In each sample, slots are given out in the start order of the median schedule.
    """
    counted = [index for index, step in enumerate(graph.steps) if step.phase in ("prepare", "bring-up")]
    if not counted:
        nothing = list_schedule(graph, [0.0] * len(graph), limits)
        return Forecast(
            p10_s=0.0, p50_s=0.0, p80_s=0.0, p95_s=0.0, chance=1.0, likely=nothing, critical=(),
            spread_s=((0.0, 0.0),) * len(graph), criticality=(0.0,) * len(graph),
        )  # fmt: skip
    sub = StepGraph(graph.steps[index] for index in counted)
    medians = [estimates[step.id].median_s for step in sub.steps]
    likely_sub = list_schedule(sub, medians, limits)
    start, finish, owners = _sample(sub, estimates, limits, likely_sub.order, samples, seed)
    ends = finish.max(axis=0)
    critical = _criticality(sub, start, finish, owners, likely_sub.order)
    low, high = np.percentile(finish, (10, 90), axis=1)
    p10, p50, p80, p95 = np.percentile(ends, (10, 50, 80, 95))
    everything = list_schedule(graph, [estimates[step.id].median_s for step in graph.steps], limits)
    at = sub.index
    return Forecast(
        p10_s=float(p10),
        p50_s=float(p50),
        p80_s=float(p80),
        p95_s=float(p95),
        chance=float((ends <= objective_s).mean()),
        likely=everything,
        critical=critical_path(sub, likely_sub),
        spread_s=tuple(
            (float(low[at[s.id]]), float(high[at[s.id]])) if s.id in at else (0.0, 0.0) for s in graph.steps
        ),
        criticality=tuple(float(critical[at[s.id]]) if s.id in at else 0.0 for s in graph.steps),
    )


def _draw(estimate: Estimate, samples: int, rng: np.random.Generator) -> Samples:
    if estimate.median_s <= 0:
        return np.zeros(samples)
    strata = (rng.permutation(samples) + rng.random(samples)) / samples
    drawn: Samples = estimate.median_s * np.exp(estimate.sigma * ndtri(strata))
    return drawn


def _sample(
    graph: StepGraph,
    estimates: Mapping[str, Estimate],
    limits: SiteLimits,
    order: tuple[int, ...],
    samples: int,
    seed: int,
) -> tuple[Samples, Samples, dict[int, NDArray[np.intp]]]:
    """Start and finish, shape (steps, samples), and per slotted step who had its slot before, per sample."""
    rng = np.random.default_rng(seed)
    start = np.zeros((len(graph), samples))
    finish = np.zeros((len(graph), samples))
    free: dict[Slot, Samples] = {}
    holder: dict[Slot, NDArray[np.intp]] = {}
    owners: dict[int, NDArray[np.intp]] = {}
    column = np.arange(samples)
    for position in order:
        step = graph.steps[position]
        ready = np.zeros(samples)
        for pred in graph.preds[position]:
            lag = step.delay_s if graph.steps[pred].id in step.delay_from else 0.0
            np.maximum(ready, finish[pred] + lag, out=ready)
        if step.slot:
            slots = free.setdefault(step.slot, np.zeros((capacity(limits, step.slot), samples)))
            held = holder.setdefault(step.slot, np.full(slots.shape, -1, dtype=np.intp))
            first = slots.argmin(axis=0)
            owners[position] = np.where(slots[first, column] > ready, held[first, column], -1)
            np.maximum(ready, slots[first, column], out=ready)
        start[position] = ready
        finish[position] = ready + _draw(estimates[step.id], samples, rng)
        if step.slot:
            slots[first, column] = finish[position]
            held[first, column] = position
    return start, finish, owners


def _criticality(
    graph: StepGraph,
    start: Samples,
    finish: Samples,
    owners: Mapping[int, NDArray[np.intp]],
    order: tuple[int, ...],
) -> Samples:
    """Share of samples in which a delay of the step would have delayed the end.

    Walks backwards from the last finish. A step that ties with another is counted with it.
    """
    critical = finish == finish.max(axis=0)
    column = np.arange(start.shape[1])
    for position in reversed(order):
        here = critical[position]
        if not here.any():
            continue
        step = graph.steps[position]
        for pred in graph.preds[position]:
            lag = step.delay_s if graph.steps[pred].id in step.delay_from else 0.0
            critical[pred] |= here & (finish[pred] + lag == start[position])
        if position in owners:
            before = owners[position]
            held_up = here & (before >= 0)
            critical[before[held_up], column[held_up]] = True
    share: Samples = critical.mean(axis=1)
    return share
