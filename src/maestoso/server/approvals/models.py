"""Rules for second signatures, requests for them, and answers. Requests are kept."""

from __future__ import annotations

from typing import Any

from django.db import models


class Rule(models.Model):
    """Runs of a kind, or deeds, want approvals; ``plan`` is empty for all plans without an own rule."""

    plan = models.CharField(max_length=12, blank=True)
    kind = models.CharField(max_length=16)
    approvals = models.PositiveSmallIntegerField()
    hours = models.PositiveSmallIntegerField()

    class Meta:
        ordering = ["plan", "kind"]
        constraints = [models.UniqueConstraint(fields=["plan", "kind"], name="one_rule_of_a_kind")]


class ApprovalRequest(models.Model):
    """Somebody asks to start a run. ``options`` are the choices that are asked for; no others may be started.

    Or somebody asks to do something else: then ``deed`` is the request to the API that is asked for, and no
    other may be sent; ``plan_name`` says what it does, ``details`` what it changed when it was asked for.

    ``closed`` is used or withdrawn once it is that; ``run`` is the run that was started with it.
    """

    plan = models.CharField(max_length=12, db_index=True)
    plan_name = models.CharField(max_length=200)
    plan_version = models.PositiveIntegerField()
    kind = models.CharField(max_length=16)
    options: Any = models.JSONField()
    deed: Any = models.JSONField(null=True, default=None)
    details: Any = models.JSONField(default=list)
    reason = models.CharField(max_length=500, blank=True)
    asked_by = models.CharField(max_length=150)
    asker_mail = models.CharField(max_length=254, blank=True)
    asked_at = models.DateTimeField()
    needed = models.PositiveSmallIntegerField()
    hours = models.PositiveSmallIntegerField()
    closed = models.CharField(max_length=12, blank=True, default="", db_index=True)
    run = models.PositiveIntegerField(null=True)

    class Meta:
        ordering = ["-id"]


class ApprovalAnswer(models.Model):
    """Granted, or refused with a reason."""

    request = models.ForeignKey(ApprovalRequest, models.CASCADE, related_name="answers")
    by = models.CharField(max_length=150)
    mail = models.CharField(max_length=254, blank=True)
    at = models.DateTimeField()
    granted = models.BooleanField()
    text = models.CharField(max_length=500, blank=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["request", "by"], name="one_answer_of_a_person")]
