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
    # The third site that remembers who conducts (its code; empty for none), how often the lease was renewed
    # there, until when it is held, and why it is not renewed.
    witness = models.CharField(max_length=12, blank=True, default="")
    renewals = models.PositiveBigIntegerField(default=0)
    held_until = models.DateTimeField(null=True)
    witness_trouble = models.CharField(max_length=400, blank=True, default="")
    ended_because = models.CharField(max_length=1000, blank=True, default="")
