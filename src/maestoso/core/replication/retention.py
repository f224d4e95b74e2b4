"""Which recovery points a retention ladder keeps: all, then the first of each hour, then of each day."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from maestoso.core.model.protection import Policy

HOUR_S = 3600
DAY_S = 86400
Ints = NDArray[np.int64]
Flags = NDArray[np.bool_]


@dataclass(frozen=True, slots=True, kw_only=True)
class Ladders:
    """The ladders of n groups, each array of shape (n,), seconds; ``most`` 0 means no limit."""

    keep_all: Ints
    keep_hourly: Ints
    keep_daily: Ints
    most: Ints


def ladders(policies: list[Policy]) -> Ladders:
    """The ladders of policies as arrays."""
    rows = [(p.keep_all_s, p.keep_hourly_s, p.keep_daily_s, p.most_points) for p in policies]
    columns = np.array(rows, dtype=np.int64).reshape(-1, 4)
    return Ladders(
        keep_all=columns[:, 0], keep_hourly=columns[:, 1], keep_daily=columns[:, 2], most=columns[:, 3]
    )


def retained(group: Ints, at: Ints, now: int, rules: Ladders, pinned: Flags | None = None) -> Flags:
    """Which of m points stay at ``now``. ``group`` indexes the ladders; points sorted by (group, at).

    The first point of an hour or day is the one that stays, because application-consistent points are made
    on the full hour. Pinned points always stay and do not count against the limit. Found by flags where
    (group, tier, bucket) changes from one point to the next, so the cost is a few passes over the arrays.
    """
    if len(at) == 0:
        return np.zeros(0, dtype=np.bool_)
    age = now - at
    tier = np.full(len(at), 3, dtype=np.int64)
    tier[age < rules.keep_daily[group]] = 2
    tier[age < rules.keep_hourly[group]] = 1
    tier[age < rules.keep_all[group]] = 0
    bucket = at // np.where(tier == 1, HOUR_S, DAY_S)
    first = np.ones(len(at), dtype=np.bool_)
    first[1:] = (group[1:] != group[:-1]) | (tier[1:] != tier[:-1]) | (bucket[1:] != bucket[:-1])
    first |= tier == 0  # the point of a last copy may fall into the second of a regular one
    stays: Flags = first & (tier < 3)
    most = rules.most[group]
    if most.any():
        counted = stays if pinned is None else stays & ~pinned
        # Rank from the newest: how many counted points of the group come at or after this one.
        running = np.cumsum(counted)
        last = np.flatnonzero(np.append(group[1:] != group[:-1], True))
        until = running[last[np.searchsorted(last, np.arange(len(at)))]]
        stays &= (most == 0) | (until - running < most)
    return stays if pinned is None else stays | pinned


def ladder_times(policy: Policy, now: int) -> Ints:
    """Moments of the points that a policy would hold at ``now`` when every cycle succeeds, oldest first."""
    # Only moments that some tier can keep: all recent ones, and the first of every older hour.
    step = max(policy.interval_s, 1)
    recent = np.arange((now - policy.keep_all_s) // step + 1, now // step + 1, dtype=np.int64) * step
    oldest = now - max(policy.keep_hourly_s, policy.keep_daily_s, policy.keep_all_s)
    hours = np.arange(oldest // HOUR_S, now // HOUR_S + 1, dtype=np.int64) * HOUR_S
    firsts = -(-hours // step) * step
    at = np.unique(np.concatenate((firsts[(firsts <= now) & (firsts > oldest)], recent)))
    return at[retained(np.zeros(len(at), dtype=np.int64), at, now, ladders([policy]))]
