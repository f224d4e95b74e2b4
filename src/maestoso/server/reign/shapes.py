"""What is said of standbys over HTTP."""

from __future__ import annotations

from dataclasses import dataclass


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
