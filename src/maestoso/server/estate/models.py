"""Rows of sites, workloads and links."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.model.estate import Inventory, Workload


class Site(models.Model):
    """A place that can run workloads. ``inventory`` is what its agent said last, without the workloads."""

    code = models.CharField(max_length=12, unique=True)
    name = models.CharField(max_length=80)
    kind = models.CharField(max_length=12, choices=[("datacentre", "data centre"), ("cloud", "cloud region")])
    time_zone = models.CharField(max_length=60, default="UTC")
    agent_url = models.CharField(max_length=200)
    agent_token = models.TextField()
    practice = models.BooleanField(default=False)
    inventory: Any = models.JSONField(default=dict)
    inventory_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]

    def core(self) -> Inventory:
        """The inventory as a value, workloads included."""
        rows = WorkloadRow.objects.filter(site=self)
        return from_data(Inventory, {**self.inventory, "workloads": [row.spec for row in rows]})


class WorkloadRow(models.Model):
    """A workload; ``spec`` is the whole value, the other columns are there to be searched."""

    name = models.CharField(max_length=120, unique=True)
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="workloads")
    spec: Any = models.JSONField()

    class Meta:
        ordering = ["id"]

    def core(self) -> Workload:
        """The workload as a value."""
        return from_data(Workload, self.spec)


class Link(models.Model):
    """The line between two sites."""

    one = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    other = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")
    bandwidth_bps = models.BigIntegerField()
    latency_ms = models.FloatField()

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["one", "other"], name="one_link_between_two_sites"),
            models.CheckConstraint(condition=models.Q(bandwidth_bps__gt=0), name="link_has_bandwidth"),
        ]
