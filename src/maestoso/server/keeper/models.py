"""Who keeps what."""

from __future__ import annotations

from django.db import models


class KeeperLease(models.Model):
    """The right to look after one site, or the records, until a moment of the database's clock."""

    duty = models.CharField(max_length=40, primary_key=True)
    owner = models.CharField(max_length=100)
    until = models.DateTimeField(null=True)
