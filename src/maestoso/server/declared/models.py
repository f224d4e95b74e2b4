"""Rows of declared outages."""

from __future__ import annotations

from django.db import models


class DeclaredOutage(models.Model):
    """What was said of a site, by whom last, and whether it still stands. ``plan`` would recover it."""

    site = models.CharField(max_length=12)
    plan = models.CharField(max_length=12)
    since = models.DateTimeField()
    reason = models.CharField(max_length=500)
    by = models.CharField(max_length=150)
    said_at = models.DateTimeField()
    again_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)
    ended_by = models.CharField(max_length=150, blank=True)

    class Meta:
        ordering = ["-pk"]
