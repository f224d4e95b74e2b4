"""How fast things change: the rhythm of a day, batch jobs, noise and bursts, as a pure function of time.

The same arguments give the same rates, so a practice site needs no stored history of them.
"""

from __future__ import annotations

import hashlib
import math
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache

from maestoso.core.model.estate import Workload

DAY_S = 86400
NOISE_S = 600


@dataclass(frozen=True, slots=True, kw_only=True)
class Burst:
    """A stretch of unusual change: ``factor`` times the usual from ``start`` for ``length_s``."""

    start: datetime
    length_s: int
    factor: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """A batch job: ``factor`` times the usual for ``length_s`` from ``begins_s`` after every midnight UTC."""

    begins_s: int
    length_s: int
    factor: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeProfile:
    """``usual_bps`` bytes a second on average over a day; ``failed_share`` of the cycles leave no point."""

    usual_bps: float
    failed_share: float = 0.0
    bursts: tuple[Burst, ...] = ()
    jobs: tuple[Job, ...] = ()


def chance(*parts: object) -> float:
    """A number in [0, 1) that depends on ``parts`` only (SHA-256, first eight bytes)."""
    digest = hashlib.sha256("/".join(map(str, parts)).encode()).digest()
    return int.from_bytes(digest[:8], "big") / 2**64


def usual_rate(profile: ChangeProfile, at_s: float) -> float:
    """Bytes a second by rhythm and jobs: least at 03:00 UTC, most at 15:00."""
    of_day = at_s % DAY_S
    phase = 2 * math.pi * (of_day / DAY_S - 3 / 24)
    job = max((j.factor for j in profile.jobs if 0 <= of_day - j.begins_s < j.length_s), default=1.0)
    return profile.usual_bps * (1.0 - 0.55 * math.cos(phase)) * job


@lru_cache(maxsize=8192)
def noise(name: str, slot: int) -> float:
    """A factor around 1 that stays for ``NOISE_S``; remembered, because every step of a site asks again."""
    return 0.85 + 0.3 * chance(name, "noise", slot)


def rate(name: str, profile: ChangeProfile, at_s: float) -> float:
    """Bytes a second at ``at_s``: the usual, some noise by ``name``, and the bursts."""
    burst = max(
        (b.factor for b in profile.bursts if 0 <= at_s - b.start.timestamp() < b.length_s), default=1.0
    )
    return usual_rate(profile, at_s) * noise(name, int(at_s // NOISE_S)) * burst


def derived_usual_bps(workload: Workload) -> float:
    """Bytes a second that a workload of which nothing else is known changes, by its size and character."""
    return workload.size_gib * 150.0 * (0.3 + 1.4 * chance(workload.name, "change"))
