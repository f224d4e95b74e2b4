"""Whether an engine is at work: every engine says so while it turns."""

from __future__ import annotations

import time
from contextlib import suppress
from datetime import timedelta

from django.db import DatabaseError
from django.db.models import DurationField, ExpressionWrapper, F
from django.db.models.functions import Now

from maestoso.server.runs.models import EngineBeat

EVERY_S = 10.0
MISSED_AFTER = timedelta(seconds=45)
"""A turn may wait for a slow database; whoever is silent longer does not look after its runs."""


class Beats:
    """Says so for one engine, at most every ``EVERY_S``: ``turned`` after each turn, which took so long."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._next = 0.0
        self._longest = 0.0

    def turned(self, took_s: float) -> None:
        """Asked in the thread that reads and writes the log."""
        self._longest = max(self._longest, took_s)
        if time.monotonic() >= self._next:
            said = {"at": Now(), "turn_s": self._longest}
            with suppress(DatabaseError):  # the log meets the same, and says it
                EngineBeat.objects.update_or_create(name=self.name, defaults=said)
            self._next, self._longest = time.monotonic() + EVERY_S, 0.0

    def ended(self) -> None:
        """It was told to stop."""
        EngineBeat.objects.filter(name=self.name).delete()


def ages() -> dict[str, tuple[float, float]]:
    """By engine, how long ago it was heard, and its longest turn of late, in seconds."""
    age = ExpressionWrapper(Now() - F("at"), output_field=DurationField())
    rows = EngineBeat.objects.annotate(age=age).values_list("name", "age", "turn_s")
    return {name: (found.total_seconds(), turn_s) for name, found, turn_s in rows}


def silent() -> timedelta | None:
    """For how long no engine was heard; None where one is at work, or none ever was."""
    youngest = min((age for age, _ in ages().values()), default=0.0)
    return timedelta(seconds=youngest) if youngest > MISSED_AFTER.total_seconds() else None
