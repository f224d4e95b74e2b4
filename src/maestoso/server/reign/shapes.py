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
    """``expected``: a port is open for them.

    ``witness`` is the code of the site that remembers who conducts, empty for none; ``trouble`` why it does
    not renew the lease, and ``withheld`` why sites are asked for nothing, both empty while all is well.
    """

    expected: bool
    lines: tuple[StandbyLine, ...]
    witness: str
    trouble: str
    withheld: str


@dataclass(frozen=True, slots=True, kw_only=True)
class WitnessChosen:
    """The site that is the witness from now on, by its code."""

    site: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Takeover:
    """A standby, as its pages say: what it follows since when, how that goes (``sentence``), when the engine
    of the primary was heard last, how many runs are under way, and what is to be typed to have it take over.

    ``behind_s`` is null while it does not follow. ``begun``: it takes over now; ``failed``: why it could not.
    ``witness`` is the site that may have it take over by itself, empty for none, and ``witness_said`` what
    that said last.
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
    witness: str
    witness_said: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeoverAsked:
    """What somebody typed."""

    words: str
