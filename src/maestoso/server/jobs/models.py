"""Rows of jobs and of what they are given and make."""

from __future__ import annotations

from typing import Any

from django.db import models

WAITING, WORKING, DONE, FAILED, CANCELLED = "waiting", "working", "done", "failed", "cancelled"
OPEN = (WAITING, WORKING)


class Job(models.Model):
    """One thing that somebody asked for and that takes its time.

    ``about`` says in words what it makes. ``needs`` is what whoever takes the result must be permitted: a
    permission, and for an object its kind and key. ``sent_at``: when workers were told of it last.
    ``attempt`` counts those who took it up; ``owner`` has it ``until`` a moment of the database's clock.
    ``problem`` is that of a refusal over HTTP: ``status``, ``code``, ``detail``, ``remedy``, ``field``.
    """

    kind = models.CharField(max_length=40)
    about = models.CharField(max_length=200)
    args: Any = models.JSONField(default=dict)
    needs: Any = models.JSONField(default=list)
    by = models.CharField(max_length=150)
    state = models.CharField(max_length=10, default=WAITING)
    cancel = models.BooleanField(default=False)
    asked_at = models.DateTimeField()
    sent_at = models.DateTimeField()
    attempt = models.PositiveIntegerField(default=0)
    owner = models.CharField(max_length=100, blank=True, default="")
    until = models.DateTimeField(null=True)
    began_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)
    done = models.PositiveIntegerField(default=0)
    total = models.PositiveIntegerField(default=0)
    media_type = models.CharField(max_length=80, blank=True, default="")
    file_name = models.CharField(max_length=200, blank=True, default="")
    size = models.PositiveBigIntegerField(default=0)
    problem: Any = models.JSONField(default=dict)

    class Meta:
        ordering = ["-id"]
        indexes = [
            models.Index(fields=["state", "by"], name="jobs_that_go_on"),
            models.Index(fields=["ended_at"], name="jobs_that_ended"),
        ]

    def why(self) -> str:
        """Why it failed, and what to do, in words; empty where it did not."""
        return " ".join(filter(None, (self.problem.get("detail"), self.problem.get("remedy"))))


class JobPart(models.Model):
    """A piece of what a job was given (``attempt`` 0) or of what an attempt made; it fits into a packet."""

    job = models.ForeignKey(Job, on_delete=models.CASCADE, related_name="parts")
    attempt = models.PositiveIntegerField()
    number = models.PositiveIntegerField()
    body = models.BinaryField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["job", "attempt", "number"], name="one_part_of_an_attempt")
        ]
