"""What the API says of declared outages."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class OutageDeclared:
    """What is down: a ``site``, or that which a ``plan`` recovers. ``since`` is when it began, or now."""

    site: str = ""
    plan: str = ""
    reason: str
    since: datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class OutageView:
    """A declared outage. ``to`` is the page where a person would start the recovery: nothing was started.

    ``again_at`` is when it was said last.
    """

    id: int
    site: str
    site_name: str
    plan: str
    plan_name: str
    since: datetime
    reason: str
    by: str
    said_at: datetime
    again_at: datetime
    ended_at: datetime | None
    ended_by: str
    to: str
