"""What goes to a site in secret: filled in on the way to it, so that no log and no row ever holds it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from maestoso.core.runs.operations import Operation

Fill = Callable[[Operation], Mapping[str, Any]]
_fills: dict[str, Fill] = {}


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
    """The arguments as they go over the line."""
    return _fills[operation.verb](operation) if has_secrets(operation) else operation.args
