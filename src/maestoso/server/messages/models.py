"""Rows of what people and programs are told."""

from __future__ import annotations

import uuid
from typing import Any

from django.conf import settings
from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.messages import Matter

WAITING, SENT, GIVEN_UP = "waiting", "sent", "given up"


def new_uid() -> str:
    """By which a receiver knows a message that comes twice."""
    return str(uuid.uuid4())


class Preference(models.Model):
    """What a person wants to be told by mail. ``quiet_from`` and ``quiet_to`` are such as 22:00; or empty.

    ``daily_at``: what is not urgent comes once a day, then; empty for at once.
    """

    user = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE, related_name="message_preference")
    by_mail = models.BooleanField(default=True)
    topics: Any = models.JSONField(default=list)
    quiet_from = models.CharField(max_length=5, blank=True, default="")
    quiet_to = models.CharField(max_length=5, blank=True, default="")
    daily_at = models.CharField(max_length=5, blank=True, default="")

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"of {self.user.get_username()}"


class Webhook(models.Model):
    """A program that is told over HTTP. ``secret`` signs what it gets; ``template`` is JSON for a chat room.

    ``stopped_because``: it said that it wants nothing any more.
    """

    name = models.CharField(max_length=80, unique=True)
    url = models.CharField(max_length=1000)
    secret = models.CharField(max_length=400)
    topics: Any = models.JSONField(default=list)
    template = models.TextField(blank=True, default="")
    enabled = models.BooleanField(default=True)
    stopped_because = models.CharField(max_length=300, blank=True, default="")

    class Meta:
        ordering = ["name"]

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return self.name


class OpenMatter(models.Model):
    """What is so now; ``told`` is false while it is waited whether it stays so.

    Of what a run needs: who looked at it first and when, and how many steps were taken while nobody did.
    """

    key = models.CharField(max_length=200, unique=True)
    matter: Any = models.JSONField()
    begun_at = models.DateTimeField()
    told = models.BooleanField(default=True)
    seen_at = models.DateTimeField(null=True)
    seen_by = models.CharField(max_length=150, blank=True, default="")
    steps = models.PositiveSmallIntegerField(default=0)

    def core(self) -> Matter:
        """As the rules have it."""
        return from_data(Matter, self.matter)


class Escalation(models.Model):
    """One row: who is told in turn when nobody looks, as :class:`maestoso.core.messages.EscalationStep`."""

    steps: Any = models.JSONField(default=list)


class Noticed(models.Model):
    """One row: since when news are looked for, and the last run. Of what was so before nobody is told."""

    since = models.DateTimeField()
    last_run = models.PositiveIntegerField(default=0)


class Message(models.Model):
    """One thing that is sent to one receiver, at least once, always with the same ``uid``.

    ``parts`` are its matters, with whether each is ``over``. ``thread`` joins those of a run. It is given up
    so long after ``due_at``, which may be much later than it was made.
    """

    uid = models.CharField(max_length=36, unique=True, default=new_uid)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, null=True, related_name="+")
    webhook = models.ForeignKey(Webhook, models.CASCADE, null=True, related_name="messages")
    thread = models.CharField(max_length=60, blank=True, default="")
    parts: Any = models.JSONField()
    made_at = models.DateTimeField()
    due_at = models.DateTimeField()
    not_before = models.DateTimeField()
    tries = models.PositiveIntegerField(default=0)
    state = models.CharField(max_length=10, default=WAITING)
    said = models.CharField(max_length=500, blank=True, default="")
    sent_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]
        indexes = [models.Index(fields=["state", "not_before"], name="messages_due")]

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return self.uid


class EventStream(models.Model):
    """One row: the numbers of the last event, and of the last that is kept no longer; how far the audit trail
    was told, and when somebody asked last: nothing is written while nobody follows."""

    number = models.PositiveBigIntegerField(default=0)
    gone = models.PositiveBigIntegerField(default=0)
    audit = models.PositiveBigIntegerField(default=0)
    asked_at = models.DateTimeField(null=True)
    flows = models.BooleanField(default=False)


class StreamedRun(models.Model):
    """How far the log of a run was told."""

    run = models.OneToOneField("runs.Run", models.CASCADE, related_name="streamed")
    seq = models.PositiveIntegerField()


class StreamedEvent(models.Model):
    """One event of the stream: of a run's log, an entry of the audit trail, or a part of a message."""

    number = models.PositiveBigIntegerField(unique=True)
    at = models.DateTimeField()
    event = models.ForeignKey("runs.RunEvent", models.CASCADE, null=True, related_name="+")
    entry = models.ForeignKey("audit.AuditEntry", models.CASCADE, null=True, related_name="+")
    part: Any = models.JSONField(null=True)

    class Meta:
        ordering = ["number"]
