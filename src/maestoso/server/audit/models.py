"""Rows of the audit trail; they are only ever added."""

from __future__ import annotations

from typing import Any

from django.db import models


class AuditEntry(models.Model):
    """One change that a person made. ``number`` counts from 1 without gaps; ``chain`` binds it to the one
    before. ``changed`` holds what the records said before and after."""

    number = models.PositiveBigIntegerField(unique=True)
    at = models.DateTimeField(db_index=True)
    by = models.CharField(max_length=150, db_index=True)
    address = models.CharField(max_length=60)
    method = models.CharField(max_length=8)
    path = models.CharField(max_length=400)
    did = models.CharField(max_length=200)
    sent: Any = models.JSONField()
    changed: Any = models.JSONField()
    chain = models.CharField(max_length=64)

    class Meta:
        ordering = ["-number"]


class AuditSeal(models.Model):
    """The head of the trail at some moment, signed. ``index`` counts from 1 without gaps."""

    index = models.PositiveIntegerField(unique=True)
    number = models.PositiveBigIntegerField()
    chain = models.CharField(max_length=64)
    at = models.DateTimeField()
    key = models.CharField(max_length=64)
    token = models.TextField()

    class Meta:
        ordering = ["index"]


class AuditHead(models.Model):
    """One row, locked by whoever adds an entry: the number and the hash of the last."""

    number = models.PositiveBigIntegerField(default=0)
    chain = models.CharField(max_length=64)
