"""The row of the reign."""

from __future__ import annotations

from django.db import models


class Reign(models.Model):
    """One row. ``ended_because``: what a site said when this reign was past.

    ``installation`` is whose records these are: secrets of another one would open nothing in them.
    """

    installation = models.CharField(max_length=40, blank=True, default="")
    number = models.PositiveBigIntegerField(default=0)
    since = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    ended_because = models.CharField(max_length=1000, blank=True, default="")
