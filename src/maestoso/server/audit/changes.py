"""What the records said before and after, collected while a request changes them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import datetime
from typing import Any

from django.db import models
from django.db.models.signals import post_delete, post_save, pre_save

WATCHED = frozenset(
    {
        "organisation", "estate", "protection", "crosswalks", "plans", "scripts", "evidence", "drills",
        "auth", "access", "approvals", "messages", "names", "declared",
    }
)  # fmt: skip
"""Apps whose rows people change. Runs have a log of their own; sessions are nobody's business."""
# What is retired is told of where it was; what is kept of it holds sealed secrets.
UNWATCHED = frozenset(
    {
        "EstateMark",
        "ImportJob",
        "Seal",
        "RunRegister",
        "Stone",
        "DrillTime",
        "HeldRow",
        "Retired",
        "KnownNameRow",
        "EventStream",
        "StreamedEvent",
        "StreamedRun",
    }
)
HIDDEN = frozenset(
    {
        "password",
        "new_password",
        "one_time_code",
        "token",
        "agent_token",
        "client_secret",
        "authorization_code",
        "credential",
        "sealed",
        "key",
        "value",
        "secret",
        "digest",
        "last_login",
    }
)
"""Names whose values never leave where they are kept."""
NOT_SHOWN = "(not shown)"
MOST_ROWS = 50
LONGEST = 2000

collected: ContextVar[list[dict[str, Any]] | None] = ContextVar("collected", default=None)


def listen() -> None:
    """Hear of every row that is saved or removed."""
    pre_save.connect(_remember, dispatch_uid="audit-before")
    post_save.connect(_saved, dispatch_uid="audit-after")
    post_delete.connect(_removed, dispatch_uid="audit-removed")


def _is_watched(model: type[models.Model]) -> bool:
    return (
        collected.get() is not None and model._meta.app_label in WATCHED and model.__name__ not in UNWATCHED
    )


def _remember(sender: type[models.Model], instance: models.Model, **more: Any) -> None:
    if _is_watched(sender):
        known = sender._default_manager.filter(pk=instance.pk).first() if instance.pk else None
        instance._audit_before = as_data(known) if known is not None else None  # type: ignore[attr-defined]


def _saved(sender: type[models.Model], instance: models.Model, **more: Any) -> None:
    if _is_watched(sender):
        before, after = getattr(instance, "_audit_before", None), as_data(instance)
        if before != after:
            _note(instance, before, after)


def _removed(sender: type[models.Model], instance: models.Model, **more: Any) -> None:
    if _is_watched(sender):
        _note(instance, as_data(instance), None)


@contextmanager
def noted(rows: Sequence[models.Model]) -> Iterator[None]:
    """Around a change of many rows at once, of which Django tells nobody. The rows hold what is to be."""
    if not rows or not _is_watched(type(rows[0])):
        yield
        return
    keys = [row.pk for row in rows[:MOST_ROWS] if row.pk is not None]
    known = {row.pk: as_data(row) for row in type(rows[0])._default_manager.filter(pk__in=keys)}
    yield
    for row in rows[:MOST_ROWS]:
        before, after = known.get(row.pk), as_data(row)
        if before != after:
            _note(row, before, after)
    found = collected.get()
    if found is not None and len(rows) > MOST_ROWS:
        more = f"{len(rows) - MOST_ROWS} more of {rows[0]._meta.verbose_name}"
        found.append({"what": more, "before": {}, "after": {}})


def _note(instance: models.Model, before: dict[str, Any] | None, after: dict[str, Any] | None) -> None:
    found = collected.get()
    if found is None or len(found) >= MOST_ROWS:
        return
    if before is not None and after is not None:
        same = {name for name in after if before.get(name) == after[name]}
        before = {name: value for name, value in before.items() if name not in same}
        after = {name: value for name, value in after.items() if name not in same}
    name = getattr(instance, "audit_name", instance.pk or "")
    what = f"{instance._meta.verbose_name} {name}".strip()
    found.append({"what": what, "before": before, "after": after})


def as_data(instance: models.Model) -> dict[str, Any]:
    """The fields of a row as JSON, without what must not be shown."""
    found = {}
    for field in instance._meta.concrete_fields:
        value = getattr(instance, field.attname)
        hidden = field.name in HIDDEN or isinstance(field, models.BinaryField)
        found[field.attname] = shown(NOT_SHOWN if hidden and value else value)
    return found


def shown(value: Any, name: str = "") -> Any:
    """A value as it may stand in the trail: no secrets, no endless texts."""
    if name.lower() in HIDDEN and value:
        return NOT_SHOWN
    if isinstance(value, dict):
        return {str(key): shown(one, str(key)) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [shown(one) for one in value]
    if isinstance(value, datetime):
        return value.isoformat()
    if isinstance(value, bytes | memoryview):
        return f"({len(value)} bytes)"
    if isinstance(value, str) and len(value) > LONGEST:
        return f"{value[:LONGEST]} … ({len(value)} characters)"
    return value if isinstance(value, str | int | float | bool | None) else str(value)
