"""Which roles people have, and the tokens of their programs."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models
from knox.models import AbstractAuthToken

from maestoso.core.people.roles import WORDS, Role


class RoleGrant(models.Model):
    """A person has a role; given by whom and when (nobody: on the machine itself).

    ``scope`` is what it is given for, empty for everything (:class:`maestoso.core.people.scope.Scope`).
    ``group`` is the group at the provider of identities that it comes from, for as long as somebody is in it.
    """

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="grants")
    role = models.CharField(max_length=40)
    by = models.CharField(max_length=150, blank=True)
    scope: Any = models.JSONField(default=dict)
    group = models.CharField(max_length=200, blank=True, default="")
    at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "role"], name="one_grant_of_a_role")]

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"{self.role} of {self.user.get_username()}"


class ApiToken(AbstractAuthToken):  # type: ignore[misc]  # the library has no types
    """What a program of a person shows instead of a session; only its hash is kept.

    ``roles`` are those of the person's that it may use, ``scope`` what for where that is less than theirs.
    ``used_at`` is exact to a minute.
    """

    name = models.CharField(max_length=80)
    roles: Any = models.JSONField(default=list)
    scope: Any = models.JSONField(default=dict)
    used_at = models.DateTimeField(null=True)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it: never by its hash."""
        return f"{self.name} of {self.user.get_username()}"


class SecondFactor(models.Model):
    """What a person's authenticator app shares with us, encrypted.

    ``confirmed_at`` is empty until a first code was right; ``last_step`` is the step of the last code that
    was taken: none is taken twice.
    """

    user = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE, related_name="second_factor")
    secret = models.CharField(max_length=400)
    confirmed_at = models.DateTimeField(null=True)
    last_step = models.BigIntegerField(default=-1)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"of {self.user.get_username()}"


class RecoveryCode(models.Model):
    """A code that stands for one of the app, once; only its hash is kept."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="recovery_codes")
    digest = models.CharField(max_length=64)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"of {self.user.get_username()}"


class Passkey(models.Model):
    """What a device of a person signs in with (WebAuthn): its public key, and how often it has signed.

    ``digest`` is the SHA-256 of ``credential``, which is too long to be looked for.
    """

    user = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="passkeys")
    name = models.CharField(max_length=80)
    credential = models.TextField()
    digest = models.CharField(max_length=64, unique=True)
    public_key = models.BinaryField()
    signed = models.PositiveBigIntegerField(default=0)
    made_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"{self.name} of {self.user.get_username()}"


class OwnRole(models.Model):
    """A role that the organisation made of the permissions that there are."""

    code = models.CharField(max_length=40, unique=True)
    name = models.CharField(max_length=40)
    words = models.CharField(max_length=200, blank=True)
    permissions: Any = models.JSONField(default=list)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return self.code

    def role(self) -> Role:
        """As the rules have it; a permission that there is not any more is left out."""
        held = frozenset(one for one in self.permissions if one in WORDS)
        return Role(code=self.code, name=self.name, words=self.words, permissions=held)


class RoleRule(models.Model):
    """A role whose holders must have a second factor before they may do anything."""

    role = models.CharField(max_length=40, unique=True)


class IdentityProvider(models.Model):
    """One row: where people may sign in instead (OpenID Connect).

    ``roles`` are those that the groups of ``groups_claim`` give, ``scopes`` what for where that is not
    everything. ``makes_accounts``: whoever the provider
    knows gets an account. ``second_factor``: it is said to ask for one itself.
    """

    name = models.CharField(max_length=80)
    issuer = models.CharField(max_length=300)
    client_id = models.CharField(max_length=200)
    client_secret = models.TextField()
    groups_claim = models.CharField(max_length=80, blank=True)
    roles: Any = models.JSONField(default=dict)
    scopes: Any = models.JSONField(default=dict)
    makes_accounts = models.BooleanField(default=False)
    second_factor = models.BooleanField(default=False)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return self.name


class OutsideIdentity(models.Model):
    """An account that signs in through the provider, which calls it ``subject``; None until it came once."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE, related_name="outside")
    subject = models.CharField(max_length=255, null=True, unique=True)

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"of {self.user.get_username()}"


class Reading(models.Model):
    """How a person reads: in which time zone (empty: the browser's), dates in which form, and the theme."""

    user = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE, related_name="reading")
    time_zone = models.CharField(max_length=64, blank=True, default="")
    dates = models.CharField(max_length=10, default="words")
    theme = models.CharField(max_length=10, blank=True, default="")

    @property
    def audit_name(self) -> str:
        """As the audit trail names it."""
        return f"of {self.user.get_username()}"
