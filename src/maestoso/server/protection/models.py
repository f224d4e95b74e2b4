"""Rows of groups."""

from __future__ import annotations

from typing import Any

from django.db import models

from maestoso.core.codec import from_data
from maestoso.core.model.protection import Group, Policy
from maestoso.server.estate.models import Site, WorkloadRow


class GroupRow(models.Model):
    """A consistency group and its policy."""

    code = models.CharField(max_length=40, unique=True)
    name = models.CharField(max_length=80)
    source = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="+")
    target = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="+")
    policy: Any = models.JSONField()
    tag_rule = models.CharField(max_length=500, blank=True, default="")
    stage = models.CharField(max_length=24, default="seeding")
    revision = models.PositiveIntegerField(default=1)
    # Encrypted at rest and never shown again; empty where none is stored.
    key = models.TextField(blank=True, default="")
    # Of the key that was given first: copies that are encrypted with it open with no other.
    key_fingerprint = models.CharField(max_length=16, blank=True, default="")
    # What the site with the copies said when it was told last how to copy it, and would not.
    refused = models.TextField(blank=True, default="")

    class Meta:
        ordering = ["id"]
        constraints = [
            models.CheckConstraint(
                condition=~models.Q(source=models.F("target")), name="group_goes_to_another_site"
            )
        ]

    def core(self) -> Group:
        """The group as a value."""
        return Group(
            code=self.code,
            name=self.name,
            source=self.source.code,
            target=self.target.code,
            members=tuple(member.workload.name for member in self.members.all()),
            policy=from_data(Policy, self.policy),
            tag_rule=self.tag_rule,
        )


class GroupMember(models.Model):
    """A workload is in at most one group: the one-to-one key sees to it."""

    group = models.ForeignKey(GroupRow, on_delete=models.CASCADE, related_name="members")
    workload = models.OneToOneField(WorkloadRow, on_delete=models.CASCADE, related_name="membership")
    by_rule = models.BooleanField(default=False)

    class Meta:
        ordering = ["id"]
