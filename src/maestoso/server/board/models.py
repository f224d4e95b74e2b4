"""The board as it was last reckoned."""

from __future__ import annotations

from django.db import models


class StoredBoard(models.Model):
    """One row. ``body`` is the board as the API gives it, of the moment ``made_at``.

    ``lines`` are its plans in short.

    ``watched_until``: until then somebody is held to be looking at a page that shows some of it.
    """

    made_at = models.DateTimeField(null=True)
    took_s = models.FloatField(default=0.0)
    body = models.TextField(blank=True, default="")
    lines = models.TextField(blank=True, default="[]")
    watched_until = models.DateTimeField(null=True)
