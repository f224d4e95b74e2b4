"""The row of the organisation."""

from __future__ import annotations

from django.db import models


class Organisation(models.Model):
    """One row: its name, its time zone, how its documents look, how long runs are kept (0 days: for ever)."""

    organisation = models.CharField(max_length=120)
    time_zone = models.CharField(max_length=60, default="UTC")
    words = models.TextField(blank=True)
    logo = models.BinaryField(null=True)
    keep_days = models.PositiveIntegerField(default=0)
    revision = models.PositiveIntegerField(default=1)
