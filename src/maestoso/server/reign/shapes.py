"""What is said of standbys over HTTP."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class StandbyLine:
    """A standby that follows now. ``has_all``: everything that was written here was sent to it."""

    host: str
    has_all: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Standbys:
    """``expected``: a port is open for them."""

    expected: bool
    lines: tuple[StandbyLine, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Takeover:
    """A standby, as its pages say: what it follows since when, how that goes (``sentence``), when the engine
    of the primary was heard last, how many runs are under way, and what is to be typed to have it take over.

    ``behind_s`` is null while it does not follow. ``begun``: it takes over now; ``failed``: why it could not.
    """

    of: str
    since: datetime
    connected: bool
    behind_s: int | None
    sentence: str
    heard_at: datetime | None
    under_way: int
    words: str
    begun: bool
    failed: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeoverAsked:
    """What somebody typed."""

    words: str
