"""Rows of evidence: seals of runs, what people add to them later, and how reports look."""

from __future__ import annotations

from django.db import models


class Seal(models.Model):
    """The signed token of a finished run; never changed. ``key`` is the thumbprint of the key that made it.

    The numbers beside it repeat what the token says, for lists and trends; the report reads the token.
    """

    run = models.OneToOneField("runs.Run", on_delete=models.PROTECT, related_name="seal")
    token = models.TextField()
    key = models.CharField(max_length=64)
    sealed_at = models.DateTimeField()
    rto_s = models.FloatField(null=True)
    rpo_s = models.FloatField(null=True)
    people_s = models.FloatField(default=0.0)
    machine_s = models.FloatField(default=0.0)
    failures = models.PositiveIntegerField(default=0)


class RunRegister(models.Model):
    """One row: how many runs there were, locked by whoever starts one, and signed.

    ``mark`` is that of the register, which a file beside the keys repeats; ``missing`` are numbers that were
    never given out, from before runs were counted.
    """

    mark = models.CharField(max_length=40)
    count = models.PositiveIntegerField(default=0)
    missing = models.JSONField(default=list)
    key = models.CharField(max_length=64)
    token = models.TextField()


class Stone(models.Model):
    """What stays of a run whose log was let go: signed, that this was done on purpose, and when."""

    run = models.OneToOneField("runs.Run", on_delete=models.PROTECT, related_name="stone")
    at = models.DateTimeField()
    key = models.CharField(max_length=64)
    token = models.TextField()


class Addition(models.Model):
    """A note or a file that somebody added after the run, each signed on its own."""

    run = models.ForeignKey("runs.Run", on_delete=models.PROTECT, related_name="additions")
    number = models.PositiveIntegerField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField()
    text = models.TextField(blank=True)
    name = models.CharField(max_length=200, blank=True)
    media_type = models.CharField(max_length=100, blank=True)
    size = models.PositiveIntegerField(default=0)
    sha256 = models.CharField(max_length=64, blank=True)
    body = models.BinaryField(null=True)
    token = models.TextField()

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["run", "number"], name="one_addition_with_a_number"),
        ]
