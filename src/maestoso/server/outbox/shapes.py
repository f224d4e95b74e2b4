"""What the API says of requests to sites."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal


@dataclass(frozen=True, slots=True, kw_only=True)
class RequestView:
    """One thing that a site was asked for outside of a run.

    ``insists``: it is asked for until the site has done it; ``tries`` are the keys that were used for it.
    ``reason``: what the site said, or why nothing is known of it.
    """

    id: int
    site: str
    verb: str
    subject: str
    by: str
    asked_at: datetime
    settled_at: datetime | None
    status: Literal["waiting", "done", "failed", "withdrawn"]
    insists: bool
    tries: int
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RequestPage:
    """What waits, oldest first; and some that do not any more, newest first, with the cursor of the next."""

    waiting: tuple[RequestView, ...]
    settled: tuple[RequestView, ...]
    next: str | None
