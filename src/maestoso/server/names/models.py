"""Rows of zones, and of what they said when they were read last."""

from __future__ import annotations

from django.db import models

from maestoso.core.model.names import KnownName
from maestoso.names.zone_server import ZoneServers
from maestoso.server.common.secret_text import unseal


class Zone(models.Model):
    """A zone, its servers (``host:port``) and the key that changes it.

    ``problem`` says why it could not be read last.
    """

    name = models.CharField(max_length=253, unique=True)
    primary = models.CharField(max_length=270)
    others = models.JSONField(default=list)
    key_name = models.CharField(max_length=253)
    algorithm = models.CharField(max_length=20)
    sealed = models.TextField()
    author = models.CharField(max_length=150)
    saved_at = models.DateTimeField()
    revision = models.PositiveIntegerField(default=1)
    read_at = models.DateTimeField(null=True)
    problem = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["name"]

    def servers(self) -> ZoneServers:
        """Where it is, with its secret."""
        return ZoneServers(
            zone=self.name, primary=self.primary, others=tuple(self.others), key_name=self.key_name,
            algorithm=self.algorithm, secret=unseal(self.sealed),
        )  # fmt: skip


class KnownNameRow(models.Model):
    """What the primary server of a zone said of one name and type, and since when it says so."""

    zone = models.ForeignKey(Zone, on_delete=models.CASCADE, related_name="known")
    name = models.CharField(max_length=253)
    type = models.CharField(max_length=5)
    values = models.JSONField(default=list)
    ttl_s = models.PositiveIntegerField(default=0)
    since = models.DateTimeField()

    class Meta:
        ordering = ["name", "type"]
        constraints = [models.UniqueConstraint(fields=["zone", "name", "type"], name="known_name_once")]

    def core(self) -> KnownName:
        """The record as a value."""
        return KnownName(name=self.name, type=self.type, values=tuple(self.values), ttl_s=self.ttl_s)  # type: ignore[arg-type]
