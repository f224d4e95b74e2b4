"""Days in addresses."""

from __future__ import annotations

from datetime import UTC, date, datetime, time

from maestoso.core.errors import BadValue


def day(text: str, field: str) -> datetime:
    """The beginning of a day in UTC. Raises BadValue."""
    try:
        return datetime.combine(date.fromisoformat(text), time(), UTC)
    except ValueError as error:
        raise BadValue(f"{field} is {text[:40]!r}.", "Give a day such as 2026-11-12.", field=field) from error
