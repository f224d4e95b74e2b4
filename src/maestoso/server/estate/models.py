"""Rows of sites, workloads and links."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.model.estate import Inventory, ThrottleWindow, Workload
from maestoso.core.model.estate import Link as LinkValue


class Site(models.Model):
    """A place that can run workloads. ``inventory`` is what its agent said last, without the workloads."""

    code = models.CharField(max_length=12, unique=True)
    name = models.CharField(max_length=80)
    kind = models.CharField(max_length=12, choices=[("datacentre", "data centre"), ("cloud", "cloud region")])
    time_zone = models.CharField(max_length=60, default="UTC")
    agent_url = models.CharField(max_length=200)
    agent_token = models.TextField()
    # In PEM: the authority that signs for its agent, or the agent's own; empty trusts public authorities.
    agent_certificate = models.TextField(blank=True, default="")
    practice = models.BooleanField(default=False)
    inventory: Any = models.JSONField(default=dict)
    inventory_at = models.DateTimeField(null=True)
    # What the agent called the inventory that was taken over last, to see whether it has another one now.
    inventory_mark = models.CharField(max_length=64, blank=True, default="")
    # Machines of the agent's inventory that cannot be taken over, each with why.
    odd: Any = models.JSONField(default=list)
    takes_over = models.BooleanField(default=False)
    # Changes when the agent has lost its memory; since when it is known to have, until somebody looked.
    epoch = models.CharField(max_length=64, blank=True, default="")
    # The verbs that its agent says it has; None until it was asked.
    verbs: Any = models.JSONField(null=True, default=None)
    forgot_at = models.DateTimeField(null=True)
    # When its agent was heard last, while it does not answer; the keeper writes it.
    silent_since = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]

    @property
    def audit_name(self) -> str:
        """What the trail calls it."""
        return self.code

    def things(self) -> Inventory:
        """The inventory without the workloads."""
        return from_data(Inventory, self.inventory)

    def core(self) -> Inventory:
        """The inventory as a value, workloads included."""
        rows = WorkloadRow.objects.filter(site=self)
        return from_data(Inventory, {**self.inventory, "workloads": [row.spec for row in rows]})


class WorkloadRow(models.Model):
    """A workload; ``spec`` is the whole value, the other columns are there to be searched."""

    name = models.CharField(max_length=120, unique=True)
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="workloads")
    spec: Any = models.JSONField()
    # While it runs away from home: where that is, and what it had there.
    home: Any = models.JSONField(null=True, default=None)
    revision = models.PositiveIntegerField(default=1)

    class Meta:
        ordering = ["id"]

    @property
    def audit_name(self) -> str:
        """What the trail calls it."""
        return self.name

    def core(self) -> Workload:
        """The workload as a value."""
        return from_data(Workload, self.spec)


class Link(models.Model):
    """The line between two sites."""

    one = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    other = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    bandwidth_bps = models.BigIntegerField()
    latency_ms = models.FloatField()
    loss = models.FloatField(default=0.0)
    windows: Any = models.JSONField(default=list)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["one", "other"], name="one_link_between_two_sites"),
            models.CheckConstraint(condition=models.Q(bandwidth_bps__gt=0), name="link_has_bandwidth"),
        ]

    def core(self) -> LinkValue:
        """The link as a value."""
        return LinkValue(
            one=self.one.code,
            other=self.other.code,
            bandwidth_bps=self.bandwidth_bps,
            latency_ms=self.latency_ms,
            loss=self.loss,
            windows=tuple(from_data(ThrottleWindow, window) for window in self.windows),
        )


class EstateMark(models.Model):
    """One row with a mark that is new whenever workloads or their groups change.

    No counter: a transaction that is taken back would let the same number mean two things.
    """

    mark = models.CharField(max_length=32)


class SavedFilter(models.Model):
    """A filter that somebody named."""

    owner = models.CharField(max_length=150)
    name = models.CharField(max_length=80)
    text = models.CharField(max_length=500)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["owner", "name"], name="one_filter_of_a_name")]


class ImportJob(models.Model):
    """A file on its way in. ``staged`` is what it would bring (JSON, packed); written only when confirmed.

    ``state``: reading, ready, writing, done, cancelled. ``job`` reads or writes it, and says how that goes.
    """

    file_name = models.CharField(max_length=200)
    options: Any = models.JSONField(default=dict)
    state = models.CharField(max_length=12, default="reading")
    job = models.ForeignKey("jobs.Job", on_delete=models.SET_NULL, null=True)
    staged = models.BinaryField(default=b"")
    summary: Any = models.JSONField(default=dict)
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    class Meta:
        ordering = ["-id"]


class Retired(models.Model):
    """Something that was retired, with all that is needed to make it again."""

    kind = models.CharField(max_length=12)
    name = models.CharField(max_length=200)
    body: Any = models.JSONField()
    by = models.CharField(max_length=150)
    at = models.DateTimeField()

    class Meta:
        ordering = ["id"]
