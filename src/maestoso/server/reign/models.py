"""The row of the reign."""

from __future__ import annotations

from django.db import models


class Reign(models.Model):
    """One row, once there was a takeover, or a site has said that this reign is past (``ended_because``)."""

    number = models.PositiveBigIntegerField(default=0)
    since = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    ended_because = models.CharField(max_length=1000, blank=True, default="")
