"""The recovery points that a policy would hold at a moment, from the change profile of a group.

Pure arithmetic on the cycle grid: the same arguments give the same points, so a practice site needs no
stored history, and a page of the past looks the same twice.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import pairwise

from maestoso.core.model.protection import ChangeRate, Policy, RecoveryPoint

DAY_S = 86400


@dataclass(frozen=True, slots=True, kw_only=True)
class Burst:
    """A stretch of unusual change: ``factor`` times the usual from ``start`` for ``length_s``."""

    start: datetime
    length_s: int
    factor: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeProfile:
    """``usual_bps`` bytes a second by day on average; ``failed_share`` of the cycles leave no point."""

    usual_bps: float
    failed_share: float = 0.0
    bursts: tuple[Burst, ...] = ()


def chance(*parts: object) -> float:
    """A number in [0, 1) that depends on ``parts`` only (SHA-256, first eight bytes)."""
    digest = hashlib.sha256("/".join(map(str, parts)).encode()).digest()
    return int.from_bytes(digest[:8], "big") / 2**64


def usual_rate(profile: ChangeProfile, at_s: float) -> float:
    """Bytes a second by the rhythm of the day: least at 03:00 UTC, most at 15:00."""
    phase = 2 * math.pi * ((at_s % DAY_S) / DAY_S - 3 / 24)
    return profile.usual_bps * (1.0 - 0.55 * math.cos(phase))


def rate(group: str, profile: ChangeProfile, at_s: float) -> float:
    """Bytes a second at ``at_s``: the rhythm, some noise, and the bursts."""
    noise = 0.85 + 0.3 * chance(group, "noise", int(at_s // 600))
    burst = max(
        (b.factor for b in profile.bursts if 0 <= at_s - b.start.timestamp() < b.length_s), default=1.0
    )
    return usual_rate(profile, at_s) * noise * burst


def _cycle_failed(group: str, profile: ChangeProfile, at_s: int) -> bool:
    return chance(group, "cycle", at_s) < profile.failed_share


def _kept(policy: Policy, now_s: float) -> Iterator[int]:
    """Cycle times that retention keeps at ``now_s``, newest first: all, then one an hour, then one a day.

    The first cycle of an hour or day is the one that stays, because application-consistent points are made
    on the full hour.
    """
    step = policy.interval_s
    at = int(now_s // step) * step
    while at > now_s - policy.keep_all_s:
        yield at
        at -= step
    for bucket, keep_s in ((3600, policy.keep_hourly_s), (DAY_S, policy.keep_daily_s)):
        start = at // bucket * bucket
        while start > now_s - keep_s:
            first = -(-start // step) * step
            if first <= at:
                yield first
                at = first - 1
            start -= bucket


def points(group: str, policy: Policy, profile: ChangeProfile, now: datetime) -> tuple[RecoveryPoint, ...]:
    """Points held at ``now``, oldest first."""
    times = [at for at in _kept(policy, now.timestamp()) if not _cycle_failed(group, profile, at)]
    return tuple(point_at(group, policy, profile, at) for at in reversed(times))


def point_at(group: str, policy: Policy, profile: ChangeProfile, at_s: int) -> RecoveryPoint:
    """The point of the cycle at ``at_s``, in seconds since 1970-01-01 UTC."""
    now_rate = rate(group, profile, at_s)
    every = policy.app_consistent_every_s
    return RecoveryPoint(
        id=f"{group}@{at_s}",
        group=group,
        at=datetime.fromtimestamp(at_s, UTC),
        kind="application-consistent" if at_s % every < policy.interval_s else "crash-consistent",
        changed_bytes=int(now_rate * policy.interval_s),
        anomaly=round(now_rate / usual_rate(profile, at_s), 2),
    )


def change_series(
    group: str, profile: ChangeProfile, now: datetime, back_s: int, every_s: int
) -> tuple[ChangeRate, ...]:
    """The change rate over the last ``back_s`` seconds in samples of ``every_s``, oldest first."""
    last = int(now.timestamp()) // every_s * every_s
    return tuple(
        ChangeRate(
            at=datetime.fromtimestamp(at, UTC),
            anomaly=round(rate(group, profile, at) / usual_rate(profile, at), 2),
        )
        for at in range(last - back_s, last + 1, every_s)
    )


def clean_point_hint(held: tuple[RecoveryPoint, ...], threshold: float = 3.0) -> RecoveryPoint | None:
    """The newest point before the latest stretch of unusual change; None where nothing was unusual."""
    hint: RecoveryPoint | None = None
    for before, after in pairwise(held):
        if before.anomaly < threshold <= after.anomaly:
            hint = before
    return hint
