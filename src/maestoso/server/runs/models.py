"""Rows of runs: the log, who may write to it, and the projection of the steps."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.outbox import DONE
from maestoso.server.outbox.models import SiteRequest


class Run(models.Model):
    """A run. What it did is in its events; the columns here are either the lease or a projection."""

    plan_code = models.CharField(max_length=12, db_index=True)
    plan_name = models.CharField(max_length=120)
    plan_version = models.PositiveIntegerField()
    kind = models.CharField(max_length=10)
    source = models.CharField(max_length=12)
    target = models.CharField(max_length=12, db_index=True)
    started_by = models.CharField(max_length=150)
    started_at = models.DateTimeField()
    request_key = models.CharField(max_length=100, null=True, unique=True)
    rto_objective_s = models.PositiveIntegerField()
    # projection of the log
    last_seq = models.PositiveIntegerField(default=0)
    chain_head = models.CharField(max_length=64)
    outcome = models.CharField(max_length=14, blank=True, db_index=True)
    aborted = models.BooleanField(default=False)
    ready_s = models.FloatField(null=True)
    notes = models.TextField(blank=True)
    ended_at = models.DateTimeField(null=True)
    # Whether the rows of its steps say what became of them: they are written when it has ended.
    steps_written = models.BooleanField(default=False)
    # Who is told when it starts, needs somebody, and ends.
    tell: Any = models.JSONField(default=list)
    # What the keeper starts by itself after this run; empty once it did.
    follow_up = models.CharField(max_length=12, blank=True, default="")
    # Why nobody conducts it: what went wrong in it, until a person has it tried again.
    put_aside = models.CharField(max_length=1000, blank=True, default="")
    # Why it was started without the approvals that it needs, and what somebody made of that afterwards.
    emergency = models.CharField(max_length=500, blank=True, default="")
    review = models.CharField(max_length=2000, blank=True, default="")
    reviewed_by = models.CharField(max_length=150, blank=True, default="")
    reviewed_at = models.DateTimeField(null=True)
    # Why it is kept beyond its time, and when retention let its log go; its line and its seal stay.
    legal_hold = models.CharField(max_length=400, blank=True, default="")
    removed_at = models.DateTimeField(null=True)
    # lease
    owner = models.CharField(max_length=100, blank=True)
    fence = models.PositiveBigIntegerField(default=0)
    lease_until = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-id"]


class EngineBeat(models.Model):
    """An engine that is at work: when it last looked after all its runs, by the database's clock, and its
    longest turn of late. One that was stopped takes its row away."""

    name = models.CharField(max_length=100, primary_key=True)
    at = models.DateTimeField()
    turn_s = models.FloatField()


class SavedView(models.Model):
    """A filter of the list of runs that somebody named; ``query`` is that of the page's address."""

    owner = models.CharField(max_length=150)
    name = models.CharField(max_length=80)
    query = models.CharField(max_length=500)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["owner", "name"], name="one_view_of_a_name")]


class RunEvent(models.Model):
    """One event; rows are only ever added. ``chain`` is the hash that binds it to the one before."""

    run = models.ForeignKey(Run, on_delete=models.PROTECT, related_name="events")
    seq = models.PositiveIntegerField()
    fence = models.PositiveBigIntegerField()
    at = models.DateTimeField()
    run_s = models.FloatField()
    kind = models.CharField(max_length=20)
    data: Any = models.JSONField()
    by = models.CharField(max_length=150)
    schema = models.PositiveSmallIntegerField()
    client_key = models.CharField(max_length=100, null=True)
    chain = models.CharField(max_length=64)

    class Meta:
        ordering = ["run_id", "seq"]
        constraints = [
            models.UniqueConstraint(fields=["run", "seq"], name="one_event_with_a_number"),
            models.UniqueConstraint(fields=["run", "client_key"], name="a_control_is_taken_once"),
        ]


class RunStep(models.Model):
    """A step of a run, and what became of it once its ``steps_written``; until then its log says that."""

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="steps")
    step = models.CharField(max_length=200)
    verb = models.CharField(max_length=30)
    phase = models.CharField(max_length=10)
    workload = models.CharField(max_length=120, blank=True)
    status = models.CharField(max_length=10, default="waiting")
    attempt = models.PositiveIntegerField(default=0)
    asked_s = models.FloatField(null=True)
    settled_s = models.FloatField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "step"], name="one_row_for_a_step")]
        indexes = [models.Index(fields=["step", "status"])]


class KeptFence(models.Model):
    """A source copy that could not be confirmed off: ``request`` waits in the outbox until its site answers.

    ``given_up`` tells the site that the workload is at home elsewhere, once the run is committed.
    """

    run = models.ForeignKey(Run, on_delete=models.CASCADE, related_name="kept_fences")
    site = models.ForeignKey("estate.Site", on_delete=models.PROTECT, related_name="+")
    workload = models.CharField(max_length=120)
    request = models.ForeignKey(SiteRequest, on_delete=models.PROTECT, related_name="fences")
    given_up = models.ForeignKey(SiteRequest, on_delete=models.PROTECT, null=True, related_name="given_up")
    seen_by = models.CharField(max_length=150, blank=True, default="")

    class Meta:
        ordering = ["id"]
        constraints = [
            models.UniqueConstraint(fields=["run", "workload"], name="one_kept_fence_of_a_workload"),
        ]

    @property
    def delivered(self) -> bool:
        """Whether the site has done it."""
        return bool(self.request.status == DONE)

    @property
    def found_running(self) -> bool:
        """Whether it turned off a second live copy."""
        return self.delivered and bool(self.request.result.get("was_running"))
