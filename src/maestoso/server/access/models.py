"""Which roles people have, and the tokens of their programs."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models
from knox.models import AbstractAuthToken


class RoleGrant(models.Model):
    """A person has a role; given by whom and when (nobody: on the machine itself)."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="grants")
    role = models.CharField(max_length=40)
    by = models.CharField(max_length=150, blank=True)
    at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "role"], name="one_grant_of_a_role")]

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"{self.role} of {self.user.get_username()}"


class ApiToken(AbstractAuthToken):  # type: ignore[misc]  # the library has no types
    """What a program of a person shows instead of a session; only its hash is kept.

    ``roles`` are those of the person's that it may use. ``used_at`` is exact to a minute.
    """

    name = models.CharField(max_length=80)
    roles: Any = models.JSONField(default=list)
    used_at = models.DateTimeField(null=True)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it: never by its hash."""
        return f"{self.name} of {self.user.get_username()}"
