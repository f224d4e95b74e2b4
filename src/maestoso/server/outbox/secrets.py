"""What goes to a site in secret: filled in on the way to it, so that no log and no row ever holds it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from maestoso.core.runs.operations import Operation
from maestoso.engine.clock import SystemClock
from maestoso.server.audit.models import AuditEntry
from maestoso.server.audit.record import add_entry
from maestoso.server.config.settings import SECRETS

CLOCK = SystemClock()
MOST_REMEMBERED = 1000


@dataclass(frozen=True, slots=True)
class Filled:
    """Arguments with their secrets, and which these are, in words that say nothing of them."""

    args: Mapping[str, Any]
    used: Sequence[str] = ()


Fill = Callable[[Operation], Filled]
_fills: dict[str, Fill] = {}
_noted: dict[str, None] = {}


def secrets_for(*verbs: str) -> Callable[[Fill], Fill]:
    """Marks what gives the arguments of these verbs with their secrets."""

    def mark(call: Fill) -> Fill:
        _fills.update(dict.fromkeys(verbs, call))
        return call

    return mark


def has_secrets(operation: Operation) -> bool:
    """Whether something is to be filled in."""
    return operation.verb in _fills


def with_secrets(operation: Operation) -> Mapping[str, Any]:
    """The arguments as they go over the line. That secrets are used stands in the audit trail."""
    if not has_secrets(operation):
        return operation.args
    filled = _fills[operation.verb](operation)
    # A site that does not answer is asked under the same key again and again.
    if filled.used and operation.key not in _noted:
        _note(operation, filled.used)
        _noted[operation.key] = None
        if len(_noted) > MOST_REMEMBERED:
            del _noted[next(iter(_noted))]
    return filled.args


def _note(operation: Operation, used: Sequence[str]) -> None:
    did = f"Used {' and '.join(used)} for {operation.verb} of {operation.subject}"
    with transaction.atomic():
        add_entry(
            AuditEntry(
                at=CLOCK.now(), by="", address="", method="", path=_of(operation)[:400], did=did[:200],
                sent={"operation": operation.key}, changed=[],
            )
        )  # fmt: skip


def _of(operation: Operation) -> str:
    """The run that it belongs to, as an address, or what is taken care of outside of runs."""
    within = operation.run.removeprefix(SECRETS.instance)
    return f"runs/{within[1:]}" if within.startswith("-") else within.strip("/")
