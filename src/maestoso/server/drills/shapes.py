"""What the API says of drills."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from maestoso.core.drills.schedule import Blackout, Drill


@dataclass(frozen=True, slots=True, kw_only=True)
class DrillTimeView:
    """One occurrence. ``state`` is ahead, open, done, missed or left-out, with the reason in words."""

    at: datetime
    until: datetime
    state: str
    reason: str
    run: int | None
    outcome: str


@dataclass(frozen=True, slots=True, kw_only=True)
class DrillView:
    """A schedule with its times of a year back and ahead; ``in_words`` says the rule as people do."""

    id: int
    revision: int
    drill: Drill
    plan_name: str
    in_words: str
    next_at: datetime | None
    times: tuple[DrillTimeView, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class BlackoutView:
    """A time in which no drill begins."""

    id: int
    blackout: Blackout
    from_at: datetime
    to_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class Calendar:
    """All of it. ``feed`` is the private address of the iCalendar feed, empty where there is none."""

    sentence: str
    drills: tuple[DrillView, ...]
    blackouts: tuple[BlackoutView, ...]
    feed: str


@dataclass(frozen=True, slots=True, kw_only=True)
class DrillTried:
    """The next times of a schedule that is not saved yet."""

    in_words: str
    next: tuple[DrillTimeView, ...]
