"""How groups share a link: weighted max-min fairness.

Everybody gets what they ask for up to ``level * weight``; the level is such that the link is full
(D. Bertsekas, R. Gallager, Data Networks, 6.5.2, with weights). Found by Newton's method on the level, which
lands exactly after few rounds because the sum granted is piecewise linear and concave in it.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
MOST_ROUNDS = 64


def share(demand: Floats, weight: Floats, capacity: float, level: float = 0.0) -> tuple[Floats, float]:
    """What each of n gets of ``capacity`` (same unit as ``demand``), and the level.

    Shapes (n,); weights above 0. Pass the level of the step before to begin near the answer.
    """
    total = float(demand.sum())
    if total <= capacity:
        return demand.copy(), float("inf")
    if capacity <= 0:
        return np.zeros_like(demand), 0.0
    if not np.isfinite(level) or level <= 0:
        level = capacity / float(weight.sum())
    for _ in range(MOST_ROUNDS):
        ceiling = level * weight
        hungry = demand > ceiling
        wanting = float(weight[hungry].sum())
        if wanting == 0.0:  # beyond the last corner: go back to where somebody still wants more
            level = float(((demand / weight).max()) * (1 - 1e-12))
            continue
        better = (capacity - float(demand[~hungry].sum())) / wanting
        if abs(better - level) <= 1e-12 * max(better, 1.0):
            break
        level = better if better > 0 else level / 2
    granted = np.minimum(demand, level * weight)
    return granted, level


def backlog(change: Floats, weight: Floats, capacity: Floats) -> tuple[Floats, Floats]:
    """Bytes sent and bytes waiting after each step, for ``change`` of shape (n, t) on one link.

    ``capacity`` (t,) is bytes per step. Both results have shape (n, t).
    """
    count, steps = change.shape
    # By step, so that every round touches contiguous memory.
    arriving = np.ascontiguousarray(change.T)
    sent = np.empty((steps, count))
    waiting = np.empty((steps, count))
    left = np.zeros(count)
    level = 0.0
    for step in range(steps):
        left += arriving[step]
        granted, level = share(left, weight, float(capacity[step]), level)
        left -= granted
        sent[step], waiting[step] = granted, left
    return sent.T, waiting.T


def lags(change: Floats, sent: Floats, step_s: float) -> Floats:
    """Age in seconds of the oldest byte not sent yet, after each step, shape (n, t).

    Read from positions in the cumulative sums: what was sent until now corresponds to what had been written
    up to some earlier moment; the lag is the way back to it. Rows that never fall behind are not searched.
    """
    written = np.cumsum(change, axis=1)
    arrived = np.cumsum(sent, axis=1)
    found = np.zeros_like(written)
    times = np.arange(1, change.shape[1] + 1) * step_s
    behind = written - arrived > 1e-6 * np.maximum(written, 1.0)
    for row in np.flatnonzero(behind.any(axis=1)):
        positions = np.concatenate(([0.0], written[row]))
        reached = np.interp(arrived[row], positions, np.concatenate(([0.0], times)))
        found[row] = np.where(behind[row], times - reached, 0.0)
    return found


def drain_s(backlog_bytes: float, change_bps: float, room_bps: float) -> float | None:
    """Seconds until a backlog is gone at a link share of ``room_bps``; None where it never will be."""
    if backlog_bytes <= 0:
        return 0.0
    spare = room_bps - change_bps
    return backlog_bytes / spare if spare > 0 else None
