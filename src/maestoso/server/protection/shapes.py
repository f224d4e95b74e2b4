"""What the API says of groups and their copies."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from maestoso.core.model.protection import ChangeRate, Group, Policy, RecoveryPoint
from maestoso.core.replication.health import Cause, Health


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupLine:
    """A group on the page of all groups. ``lags`` are seconds over the last day, ``lag_every_s`` apart."""

    code: str
    name: str
    source: str
    target: str
    stage: str
    members: int
    policy: Policy
    health: Health
    lags: tuple[float, ...]
    lag_every_s: int
    rate_bps: float
    change_bps: float
    backlog_bytes: int
    seeded_share: float
    points: int
    key_missing: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class LinkUse:
    """How a link in one direction is used, bytes a second."""

    source: str
    target: str
    bandwidth_bps: float
    room_bps: float
    used_bps: float
    groups: int
    cut_because: str


@dataclass(frozen=True, slots=True, kw_only=True)
class CoverageGap:
    """A workload that is not safe. ``reason``: in no group, no point yet, or two rules match it."""

    workload: str
    site: str
    reason: str
    needed_by: tuple[str, ...]
    needs: tuple[str, ...]
    group: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Protection:
    """All groups, what is behind their troubles, links, and what is not covered."""

    now: datetime
    sentence: str
    groups: tuple[GroupLine, ...]
    all_groups: int
    causes: tuple[Cause, ...]
    links: tuple[LinkUse, ...]
    gaps: tuple[CoverageGap, ...]
    protected: int
    workloads: int


@dataclass(frozen=True, slots=True, kw_only=True)
class LeftOut:
    """A disk that is not copied, and why."""

    workload: str
    disk: str
    because: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupDetail:
    """One group. ``named`` were chosen one by one, the other members match the rule.

    ``proved`` gives the run that passed from a point, by point id. Points and changes are empty where the
    site says nothing (``health`` says why). ``plan`` is one that holds this group and nothing else.
    """

    group: Group
    named: tuple[str, ...]
    revision: int
    line: GroupLine
    now: datetime
    points: tuple[RecoveryPoint, ...]
    changes: tuple[ChangeRate, ...]
    hint: str | None
    proved: dict[str, int]
    left_out: tuple[LeftOut, ...]
    paused_because: str
    kept_bytes: int
    key_stored: bool
    key_fingerprint: str
    plan: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupSave:
    """A group as a person wants it; a changed one sends its revision in If-Match.

    ``key`` is that of its copies, where they are to be encrypted and none is stored. It is never shown again.
    """

    group: Group
    key: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Joining:
    """Workloads that become members: those named, or all that a filter finds."""

    names: tuple[str, ...] = ()
    filter: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class PauseCopying:
    """Why the copying is paused; an empty reason goes on."""

    because: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Pin:
    """The label of a point that stays; an empty one lets it go."""

    label: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class KeySave:
    """The key of encrypted copies; it is never shown again."""

    key: str
