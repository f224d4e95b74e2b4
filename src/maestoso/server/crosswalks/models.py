"""Rows of crosswalks."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.server.estate.models import Site


class CrosswalkRow(models.Model):
    """One crosswalk in one direction; ``body`` is the whole value."""

    source = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="+")
    target = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="+")
    body: Any = models.JSONField()
    revision = models.PositiveIntegerField(default=1)
    changed_by = models.CharField(max_length=150, blank=True, default="")
    changed_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint(fields=["source", "target"], name="one_crosswalk_in_a_direction"),
            models.CheckConstraint(
                condition=~models.Q(source=models.F("target")), name="crosswalk_goes_to_another_site"
            ),
        ]

    def core(self) -> Crosswalk:
        """The crosswalk as a value."""
        return from_data(Crosswalk, self.body)


class HeldRow(models.Model):
    """A landing that the target was asked to hold. ``wrong`` says what is wrong; empty: it is held."""

    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    workload = models.CharField(max_length=120)
    asked = models.CharField(max_length=16)
    wrong = models.TextField(blank=True, default="")
    is_wrong = models.BooleanField(default=False)  # a long text cannot be in an index
    said: Any = models.JSONField(null=True)

    class Meta:
        ordering = ["workload"]
        constraints = [
            models.UniqueConstraint(fields=["site", "workload"], name="one_held_landing_for_a_workload")
        ]
        indexes = [models.Index(fields=["site", "is_wrong"], name="wrong_landings_of_a_site")]
