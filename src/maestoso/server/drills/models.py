"""Rows of the drill calendar."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.drills.schedule import Blackout, Drill


class DrillRow(models.Model):
    """A schedule. ``looked_until``: every occurrence before it has its row, or never took place."""

    plan_code = models.CharField(max_length=12, db_index=True)
    spec: Any = models.JSONField()
    revision = models.PositiveIntegerField(default=1)
    looked_until = models.DateTimeField()

    class Meta:
        ordering = ["id"]

    def core(self) -> Drill:
        """The schedule as a value."""
        return from_data(Drill, self.spec)


class DrillTime(models.Model):
    """One occurrence that came: ``outcome`` is empty while its window is open, then done or missed."""

    drill = models.ForeignKey(DrillRow, on_delete=models.CASCADE, related_name="times")
    at = models.DateTimeField()
    until = models.DateTimeField()
    run = models.ForeignKey("runs.Run", null=True, on_delete=models.PROTECT, related_name="+")
    outcome = models.CharField(max_length=10, blank=True, default="")
    reason = models.CharField(max_length=500, blank=True, default="")

    class Meta:
        ordering = ["at"]
        constraints = [models.UniqueConstraint(fields=["drill", "at"], name="a_drill_once_at_a_time")]


class BlackoutRow(models.Model):
    """A time in which no drill begins."""

    spec: Any = models.JSONField()

    class Meta:
        ordering = ["id"]

    def core(self) -> Blackout:
        """The black-out as a value."""
        return from_data(Blackout, self.spec)


class FeedAddress(models.Model):
    """The private address of the calendar feed; ``digest`` finds it, ``sealed`` shows it again."""

    digest = models.CharField(max_length=64, unique=True)
    sealed = models.TextField()
