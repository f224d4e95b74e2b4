"""Labelled change-rate series: rhythm, growth, nightly jobs, and bursts of which the place is known."""

from __future__ import annotations

from typing import Any

import numpy as np


def labelled(count: int, days: int, per_hour: int, seed: int) -> tuple[Any, Any]:
    """Rates of shape (count, days * 24 * per_hour), and where a burst was put (same shape, boolean).

    Every series has a rhythm of the day and noise; some grow, some have a nightly job, half have one burst
    of 4 to 15 times the usual on the last day, from 20 minutes to 3 hours long.
    """
    random = np.random.default_rng(seed)
    per_day = 24 * per_hour
    steps = days * per_day
    time = np.arange(steps)
    rhythm = 1 - 0.55 * np.cos(2 * np.pi * (time / per_day - random.uniform(0, 1, (count, 1))))
    rates = rhythm * random.lognormal(13, 1.5, (count, 1)) * random.lognormal(0, 0.12, (count, steps))
    growing = random.random(count) < 0.3
    rates[growing] *= np.linspace(1, 1.8, steps)
    for row in np.flatnonzero(random.random(count) < 0.4):
        begin = random.integers(0, per_day - per_hour)
        inside = (time % per_day >= begin) & (time % per_day < begin + per_hour // 2)
        rates[row, inside] *= random.uniform(3, 6)
    burst = np.zeros((count, steps), dtype=bool)
    for row in np.flatnonzero(random.random(count) < 0.5):
        long = int(random.integers(max(per_hour // 3, 1), 3 * per_hour))
        begin = int(random.integers(steps - per_day, steps - long))
        burst[row, begin : begin + long] = True
        rates[row, begin : begin + long] *= random.uniform(4, 15)
    return rates, burst


def quality(score: Any, burst: Any, per_day: int, threshold: float = 3.0) -> tuple[float, float]:
    """Precision and recall by series on the last day, when there is a history to compare with.

    A series is found where any sample of its burst is, and wrongly accused where a sample outside it is.
    """
    unusual, burst = score[:, -per_day:] >= threshold, burst[:, -per_day:]
    has = burst.any(axis=1)
    hit = (unusual & burst).any(axis=1)
    accused = (unusual & ~burst).any(axis=1)
    right = int((hit & has).sum())
    return right / max(right + int(accused.sum()), 1), right / max(int(has.sum()), 1)
