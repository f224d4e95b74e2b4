"""Unusual change: how many times its usual a workload or group changes.

Usual is what the same time of day saw on the days before (so the rhythm of the day and a nightly job are no
surprise), raised by how much the hours just before are above theirs of those days (so growth is followed).
Where there are no two days before, it is the median of the hours just before. A median is not moved by the
burst it is compared with (P. Rousseeuw, C. Croux, 1993, on medians and MAD). Noise is measured by the median
absolute deviation; a rate within its spread is never unusual.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from maestoso.core.model.protection import ChangeRate, RecoveryPoint

Floats = NDArray[np.float64]
UNUSUAL = 3.0
AT_REST_BPS = 16_384.0
"""Four blocks of 4 KiB a second: what changes less is at rest, and no rate is so many times nothing."""
SPREADS = 4.0
TRAILING_HOURS = 6
MAD_TO_SIGMA = 1.4826


def scores(rates: Floats, per_hour: int, per_day: int = 0) -> Floats:
    """How many times its usual each rate is, shape (n, t) as ``rates``; 1 where it is within its spread.

    ``per_hour`` samples make an hour. Baselines move on by the hour: each hour's median is taken once and
    the baseline is the median of the ``TRAILING_HOURS`` medians before, so the cost is one sort of the data.
    ``per_day`` (samples a day, 0: do not look) adds what the days before saw at the same time of day.
    """
    count, steps = rates.shape
    hours = -(-steps // per_hour)
    padded = np.full((count, hours * per_hour), np.nan)
    padded[:, :steps] = rates
    blocks = padded.reshape(count, hours, per_hour)
    middles = np.nanmedian(blocks, axis=2) if steps % per_hour else np.median(blocks, axis=2)
    deviations = np.abs(blocks - middles[:, :, None])
    spreads = np.nanmedian(deviations, axis=2) if steps % per_hour else np.median(deviations, axis=2)
    baseline, spread = _trailing(middles), _trailing(spreads) * MAD_TO_SIGMA
    usual = np.repeat(baseline, per_hour, axis=1)[:, :steps]
    slack = np.repeat(spread, per_hour, axis=1)[:, :steps] * SPREADS
    if per_day and steps > 2 * per_day:
        level = usual / np.maximum(_days_before(usual, per_day), 1e-9)
        same = _days_before(_highest(rates, max(per_hour // 2, 1)), per_day)
        known = slice(2 * per_day, None)
        usual[:, known] = same[:, known] * np.maximum(level[:, known], 1.0)
    found = rates / np.maximum(usual, 1e-9)
    found[rates - usual <= slack] = 1.0
    return found


def _trailing(values: Floats) -> Floats:
    """For each hour the median of up to TRAILING_HOURS before it; the first hour looks at itself."""
    found = np.empty_like(values)
    for hour in range(min(TRAILING_HOURS, values.shape[1])):
        found[:, hour] = np.median(values[:, : max(hour, 1)], axis=1)
    if values.shape[1] > TRAILING_HOURS:
        windows = sliding_window_view(values[:, :-1], TRAILING_HOURS, axis=1)
        found[:, TRAILING_HOURS:] = np.median(windows, axis=2)
    return found


def _highest(rates: Floats, reach: int) -> Floats:
    """The highest rate within ``reach`` samples of each."""
    found = rates.copy()
    for shift in range(1, reach + 1):
        found[:, shift:] = np.maximum(found[:, shift:], rates[:, :-shift])
        found[:, :-shift] = np.maximum(found[:, :-shift], rates[:, shift:])
    return found


def _days_before(values: Floats, per_day: int) -> Floats:
    """The lower median of the same time of day over the days before; 0 where there are no two.

    One day before would make yesterday's burst usual today; of two, the lower one counts.
    """
    steps = values.shape[1]
    found = np.zeros_like(values)
    for begin in range(2 * per_day, steps, per_day):
        end = min(begin + per_day, steps)
        days = [values[:, begin - back : end - back] for back in range(per_day, begin + 1, per_day)]
        found[:, begin:end] = np.quantile(np.stack(days), 0.5, axis=0, method="lower")
    return found


def scored(series: Sequence[ChangeRate], every_s: int) -> tuple[ChangeRate, ...]:
    """The series, evenly spaced by ``every_s``, with its anomalies filled in.

    All that is below ``AT_REST_BPS`` counts as that: of what is usually at rest, an anomaly is a lower bound.
    """
    if not series:
        return ()
    rates = np.maximum([[one.rate_bps for one in series]], AT_REST_BPS)
    found = scores(rates, max(3600 // every_s, 1), 86400 // every_s)[0]
    return tuple(
        replace(one, anomaly=round(float(value), 2)) for one, value in zip(series, found, strict=True)
    )


def judged(
    points: Sequence[RecoveryPoint], series: Sequence[ChangeRate], every_s: int
) -> tuple[RecoveryPoint, ...]:
    """Points with the anomaly of the change just before each; 1 where the series does not reach."""
    if not series:
        return tuple(points)
    times = np.array([one.at.timestamp() for one in series])
    found = np.array([one.anomaly for one in series])
    ats = np.array([point.at.timestamp() for point in points])
    index = np.searchsorted(times, ats, side="right") - 1
    known = (index >= 0) & (ats - times[np.maximum(index, 0)] < 2 * every_s)
    return tuple(
        replace(point, anomaly=float(found[at]) if good else 1.0)
        for point, at, good in zip(points, index, known, strict=True)
    )


def clean_point_hint(held: Sequence[RecoveryPoint], threshold: float = UNUSUAL) -> RecoveryPoint | None:
    """The newest point before the latest stretch of unusual change; None where nothing was unusual."""
    hint: RecoveryPoint | None = None
    for before, after in pairwise(held):
        if before.anomaly < threshold <= after.anomaly:
            hint = before
    return hint
