"""What a run log is made of."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal

EventKind = Literal[
    "run.started",
    "step.asked",
    "step.done",
    "step.failed",
    "step.skipped",
    "step.retried",
    "step.waits",
    "hold.agreed",
    "hold.answered",
    "hold.refused",
    "verdict.given",
    "decision.given",
    "point.changed",
    "run.held",
    "run.resumed",
    "run.aborted",
    "site.lost",
    "site.back",
    "site.deaf",
    "site.busy",
    "site.forgot",
    "services.seen",
    "run.finished",
]

ENGINE = "engine"
"""The ``by`` of events that no person caused."""

SCHEMA = 1
"""Version of the event shapes below; kept with every event so that old logs stay readable."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Draft:
    """An event before it has its place in the log."""

    kind: EventKind
    data: Mapping[str, Any] = field(default_factory=dict)
    by: str = ENGINE


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """One line of the log: ``seq`` counts from 1 without gaps, ``at`` is UTC, ``run_s`` is run time."""

    seq: int
    at: datetime
    run_s: float
    kind: EventKind
    data: Mapping[str, Any]
    by: str = ENGINE
    schema: int = SCHEMA
