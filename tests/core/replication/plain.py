"""The same arithmetic, written plainly: what the vectorised functions are compared with, here and in bench."""

from __future__ import annotations

from typing import Any

import numpy as np

from maestoso.core.model.protection import Policy


def plain_share(demand: Any, weight: Any, capacity: float) -> Any:
    """Fill everybody at the pace of their weight until they have enough or nothing is left."""
    granted = [0.0] * len(demand)
    left = max(capacity, 0.0)
    hungry = [i for i, want in enumerate(demand) if want > 0]
    while hungry and left > 0:
        total = sum(weight[i] for i in hungry)
        rise = min((demand[i] - granted[i]) / weight[i] for i in hungry)
        rise = min(rise, left / total)
        for i in hungry:
            granted[i] += rise * weight[i]
        left -= rise * total
        still = [i for i in hungry if demand[i] - granted[i] > 1e-9 * max(demand[i], 1e-9)]
        if len(still) == len(hungry):
            break
        hungry = still
    return np.array(granted)


def plain_backlog(change: Any, weight: Any, capacity: Any) -> Any:
    """Bytes that wait after each step, one step after the other."""
    waiting = np.zeros_like(change)
    left = np.zeros(len(change))
    for step in range(change.shape[1]):
        left = left + change[:, step]
        left = left - plain_share(left, weight, float(capacity[step]))
        waiting[:, step] = left
    return waiting


def plain_kept(at: list[int], now: int, policy: Policy) -> list[int]:
    """Moments that a ladder keeps, by going through them one by one."""
    kept: list[int] = []
    seen: set[tuple[int, int]] = set()
    for moment in sorted(at):
        age = now - moment
        if age < policy.keep_all_s:
            kept.append(moment)
            continue
        tier = 3600 if age < policy.keep_hourly_s else 86400 if age < policy.keep_daily_s else 0
        if tier and (tier, moment // tier) not in seen:
            seen.add((tier, moment // tier))
            kept.append(moment)
    return kept[-policy.most_points :] if policy.most_points else kept


def plain_scores(rates: Any, window: int) -> Any:
    """Each rate over the exact median of the ``window`` samples before it; 1 within four spreads."""
    found = np.ones_like(rates)
    for row in range(rates.shape[0]):
        for step in range(rates.shape[1]):
            before = rates[row, max(step - window, 0) : max(step, 1)]
            middle = np.median(before)
            spread = 1.4826 * np.median(np.abs(before - middle))
            if rates[row, step] - middle > 4 * spread:
                found[row, step] = rates[row, step] / max(middle, 1e-9)
    return found
