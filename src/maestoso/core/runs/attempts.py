"""Every time a step was asked for, and what came of it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from maestoso.core.runs.events import Event


@dataclass(frozen=True, slots=True, kw_only=True)
class Attempt:
    """One time that a step was asked for: when (run seconds), and what came of it.

    ``result`` is JSON as the site sent it.
    """

    number: int
    asked_s: float
    settled_s: float | None
    outcome: str
    reason: str
    result: dict[str, Any]


def attempts_in(events: Iterable[Event]) -> dict[str, tuple[Attempt, ...]]:
    """The attempts of every step that was ever asked for, in order."""
    found: dict[str, list[Attempt]] = {}
    for event in events:
        step = str(event.data.get("step", ""))
        if event.kind == "step.asked":
            found.setdefault(step, []).append(
                Attempt(
                    number=event.data["attempt"], asked_s=event.run_s, settled_s=None, outcome="", reason="",
                    result={},
                )
            )  # fmt: skip
        elif event.kind in ("step.done", "step.failed") and step in found:
            found[step][-1] = replace(
                found[step][-1],
                settled_s=event.run_s,
                outcome=event.kind.removeprefix("step."),
                reason=str(event.data.get("reason", "")),
                result=dict(event.data.get("result") or {}),
            )
    return {step: tuple(listed) for step, listed in found.items()}
