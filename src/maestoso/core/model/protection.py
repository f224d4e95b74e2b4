"""Groups, their policies, and the recovery points that come of them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal


@dataclass(frozen=True, slots=True, kw_only=True)
class Policy:
    """How a group is copied. Points are kept all for ``keep_all_s``, then hourly, then daily."""

    mode: Literal["continuous", "interval", "backup-copy"] = "interval"
    interval_s: int
    rpo_s: int
    app_consistent_every_s: int = 3600
    keep_all_s: int = 6 * 3600
    keep_hourly_s: int = 48 * 3600
    keep_daily_s: int = 14 * 86400


@dataclass(frozen=True, slots=True, kw_only=True)
class RecoveryPoint:
    """A restorable moment of a whole group. ``anomaly`` is the change rate over its usual (1 is usual)."""

    id: str
    group: str
    at: datetime
    kind: Literal["crash-consistent", "application-consistent"]
    changed_bytes: int
    anomaly: float = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeRate:
    """How fast a group changed at a moment, over what is usual at that time of day."""

    at: datetime
    anomaly: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """Workloads replicated together, with points that are write-order consistent across all of them."""

    code: str
    name: str
    source: str
    target: str
    members: tuple[str, ...]
    policy: Policy
