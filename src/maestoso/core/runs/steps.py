"""The life of one step: one table and the function that reads it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal

from maestoso.core.errors import LogCorrupt

Status = Literal["waiting", "asked", "person", "done", "failed", "skipped", "cancelled"]

RESOLVED: frozenset[Status] = frozenset({"done", "skipped", "cancelled"})
"""What lets the steps behind go on."""

TABLE: Mapping[tuple[Status, str], Status] = {
    ("waiting", "step.asked"): "asked",
    ("waiting", "step.done"): "done",  # steps of the engine's own, such as opening a wave
    ("waiting", "step.waits"): "person",
    ("waiting", "step.skipped"): "skipped",
    ("waiting", "run.aborted"): "cancelled",
    ("asked", "step.done"): "done",
    ("asked", "step.failed"): "failed",
    ("person", "hold.agreed"): "person",  # one of several who must
    ("person", "hold.answered"): "done",
    ("person", "hold.refused"): "person",  # somebody looked, and it is not right yet
    ("person", "verdict.given"): "done",
    ("person", "step.skipped"): "skipped",
    ("person", "run.aborted"): "cancelled",
    ("person", "decision.given"): "done",
    ("failed", "step.retried"): "waiting",
    ("failed", "step.skipped"): "skipped",
    ("failed", "run.aborted"): "cancelled",
    ("waiting", "decision.given"): "cancelled",  # the branch that was not taken
    ("done", "point.changed"): "waiting",  # done once more, from another point
    ("skipped", "point.changed"): "waiting",
    ("person", "point.changed"): "waiting",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Try:
    """An earlier try of a step that failed, from being asked to failing, in run seconds."""

    from_s: float
    to_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class StepState:
    """Where a step is. Times are run seconds; ``eligible_s`` is when it may be asked for.

    ``asked_at`` is when a person or a site was asked, by the clock on the wall: people do not go at a pace;
    ``failed_at`` when it failed. ``refused_by`` is who said that it is not right, for ``reason``;
    ``agreed`` are those who answered that it may go on, where several must.
    ``tries`` are those before the one that the times are about.
    """

    status: Status = "waiting"
    attempt: int = 0
    eligible_s: float | None = None
    asked_s: float | None = None
    settled_s: float | None = None
    asked_at: datetime | None = None
    failed_at: datetime | None = None
    refused_by: str = ""
    agreed: tuple[str, ...] = ()
    code: str = ""
    reason: str = ""
    result: Mapping[str, Any] = field(default_factory=dict)
    tries: tuple[Try, ...] = ()


def next_status(step: str, status: Status, event: str) -> Status:
    """The status after ``event``. Raises LogCorrupt for a move that is not in the table."""
    try:
        return TABLE[(status, event)]
    except KeyError:
        raise LogCorrupt(
            f"Step {step} is {status}; the event {event} cannot happen to it.",
            "Restore the log of this run from a backup.",
        ) from None


def diagram() -> str:
    """The table as a Mermaid state diagram, for the documentation."""
    lines = ["stateDiagram-v2", "  [*] --> waiting"]
    lines += [f"  {status} --> {after}: {event}" for (status, event), after in TABLE.items()]
    lines += [f"  {status} --> [*]" for status in sorted(RESOLVED)]
    return "\n".join(lines)
