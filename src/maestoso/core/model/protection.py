"""Groups, their policies, the recovery points that come of them, and how a site says its copying goes."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from maestoso.core.codec import to_data


@dataclass(frozen=True, slots=True, kw_only=True)
class Policy:
    """How a group is copied.

    Points are kept all for ``keep_all_s``, then hourly, then daily, at most ``most_points`` of them (0: no
    limit). ``weight`` is the group's share of a link beside others. ``app_consistent_every_s`` 0: never.
    ``initial``: the first copy begins at once, at ``initial_at``, or from a seed that was carried there.
    """

    mode: Literal["continuous", "interval", "backup-copy"] = "interval"
    interval_s: int
    rpo_s: int
    app_consistent_every_s: int = 3600
    keep_all_s: int = 6 * 3600
    keep_hourly_s: int = 48 * 3600
    keep_daily_s: int = 14 * 86400
    most_points: int = 0
    weight: int = 1
    compression: bool = False
    encrypted: bool = False
    initial: Literal["now", "at", "seed"] = "now"
    initial_at: datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class RecoveryPoint:
    """A restorable moment of a whole group. ``anomaly`` is the change rate over its usual (1 is usual).

    A point with a ``label`` is pinned: retention never removes it.
    """

    id: str
    group: str
    at: datetime
    kind: Literal["crash-consistent", "application-consistent"]
    changed_bytes: int
    anomaly: float = 1.0
    label: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeRate:
    """How fast a group changed at a moment, bytes a second; ``anomaly`` is that over its usual."""

    at: datetime
    rate_bps: float
    anomaly: float = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Group:
    """Workloads replicated together, with points that are write-order consistent across all of them.

    ``members`` are all that are in it now; those that match ``tag_rule`` join by themselves.
    """

    code: str
    name: str
    source: str
    target: str
    members: tuple[str, ...]
    policy: Policy
    tag_rule: str = ""

    def digest(self) -> str:
        """Tells one definition from another: what a site must carry out, and nothing else."""
        told = to_data((self.code, self.source, self.target, sorted(self.members), self.policy))
        return hashlib.sha256(json.dumps(told, sort_keys=True).encode()).hexdigest()[:16]


@dataclass(frozen=True, slots=True, kw_only=True)
class CopyState:
    """How a site says the copying of one group goes.

    ``stalled_because`` names what is in the way of all data (a cut link, a source that does not answer).
    ``failed`` counts failed cycles of the last hour by reason, out of ``cycles``. Bytes and rates are after
    compression. ``promoted``: the copies are written to here, and nothing is copied. ``pace``: how many times
    faster than it says a practice site makes a first copy. ``encrypted_with``: the fingerprint of the key
    of encrypted copies, empty where they are in clear.
    """

    group: str
    source: str
    digest: str
    newest: RecoveryPoint | None = None
    seeded_bytes: int = 0
    seed_bytes: int = 0
    paused_because: str = ""
    stalled_because: str = ""
    backlog_bytes: int = 0
    change_bps: float = 0.0
    rate_bps: float = 0.0
    room_bps: float = 0.0
    cycles: int = 0
    failed: dict[str, int] = field(default_factory=dict)
    promoted: bool = False
    kept_points: int = 0
    kept_bytes: int = 0
    pace: float = 1.0
    encrypted_with: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class LinkState:
    """The link from ``source`` as the receiving site sees it; rates in bytes a second."""

    source: str
    room_bps: float
    used_bps: float
    cut_because: str = ""
