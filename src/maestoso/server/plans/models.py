"""Rows of plans and their versions."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.model.earlier import plan_today
from maestoso.core.model.plan import Plan


class PlanRow(models.Model):
    """A plan; ``current`` is the number of its newest version."""

    code = models.CharField(max_length=12, unique=True)
    current = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["id"]

    def version(self, number: int | None = None) -> PlanVersion:
        """One version, the newest by default."""
        return self.versions.get(number=number or self.current)


class PlanVersion(models.Model):
    """One version as it was saved; never changed afterwards, because runs refer to it."""

    plan = models.ForeignKey(PlanRow, on_delete=models.CASCADE, related_name="versions")
    number = models.PositiveIntegerField()
    body: Any = models.JSONField()
    summary = models.CharField(max_length=400, blank=True)
    author = models.CharField(max_length=150)
    saved_at = models.DateTimeField()

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["plan", "number"], name="one_version_with_a_number")]

    def core(self) -> Plan:
        """The plan as a value; read once, since no version ever changes."""
        key = (self.pk, self.saved_at)
        plan = _known.get(key)
        if plan is None:
            plan = from_data(Plan, plan_today(self.body))
            if len(_known) >= MOST_KNOWN:
                _known.clear()
            _known[key] = plan
        return plan


class KnownTrap(models.Model):
    """Something that whoever recovers a machine, a group or a plan must know; open until it is solved.

    ``name`` is that of the workload, or the code of the group or plan. Runs are named by their numbers.
    """

    about = models.CharField(max_length=10)
    name = models.CharField(max_length=200, db_index=True)
    text = models.CharField(max_length=1000)
    by = models.CharField(max_length=150)
    at = models.DateTimeField()
    run = models.PositiveIntegerField(null=True)
    solved_by = models.CharField(max_length=150, blank=True, default="")
    solved_at = models.DateTimeField(null=True)
    solved_run = models.PositiveIntegerField(null=True)

    class Meta:
        ordering = ["id"]


MOST_KNOWN = 2000
_known: dict[tuple[int, datetime], Plan] = {}
