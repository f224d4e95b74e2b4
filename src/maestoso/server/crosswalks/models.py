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
