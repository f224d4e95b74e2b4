"""Rows of what sites are asked for."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.outbox import WAITING, Request
from maestoso.server.estate.models import Site


class SiteRequest(models.Model):
    """One thing that a site is asked for.

    A site answers a key with what it did when it first heard it. So ``token`` is drawn anew for every row,
    and ``generation`` counts its keys: what failed is asked for again under the next.
    ``sent_at`` is written before the site is asked; from then on it may be done, whatever was heard.
    ``fence`` grows with every request of a subject: a message that was late is refused by the site.
    ``taken_in``: the site said that it is at it, and has all the time that it needs.
    ``insists``: it is brought to the site until that has done it, however long it takes.
    ``not_before``: until then another process is bringing it, or it is left in peace after it failed.
    ``args`` hold no secrets, and are let go when it is settled.
    """

    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="requests")
    token = models.CharField(max_length=32, unique=True)
    generation = models.PositiveIntegerField(default=1)
    verb = models.CharField(max_length=30)
    subject = models.CharField(max_length=200)
    args: Any = models.JSONField(default=dict)
    fence = models.PositiveBigIntegerField()
    insists = models.BooleanField(default=False)
    by = models.CharField(max_length=150)
    asked_at = models.DateTimeField()
    not_before = models.DateTimeField()
    sent_at = models.DateTimeField(null=True)
    taken_in = models.BooleanField(default=False)
    status = models.CharField(max_length=10, default=WAITING)
    code = models.CharField(max_length=60, blank=True, default="")
    reason = models.TextField(blank=True, default="")
    result: Any = models.JSONField(default=dict)
    settled_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]
        indexes = [
            models.Index(fields=["status", "site", "subject"], name="what_waits"),
            models.Index(fields=["settled_at"], name="what_is_settled"),
        ]

    def rule(self) -> Request:
        """As the rules look at it."""
        return Request(
            insists=self.insists, generation=self.generation, sent=self.sent_at is not None,
            taken_in=self.taken_in, status=self.status,
        )  # fmt: skip
