"""Time-based codes of an authenticator app (RFC 6238), and recovery codes for when it is lost."""

from __future__ import annotations

import base64
import secrets
from collections.abc import Collection
from datetime import datetime
from typing import Any
from urllib.parse import quote, urlencode

import segno
from django.conf import settings
from django.contrib.auth.models import User
from django.core.cache import cache
from django.utils.crypto import salted_hmac
from django_otp.oath import TOTP

from maestoso.core.errors import DomainError, Refused
from maestoso.server.access.models import (
    IdentityProvider,
    OutsideIdentity,
    Passkey,
    RecoveryCode,
    RoleGrant,
    RoleRule,
    SecondFactor,
)
from maestoso.server.access.roles import known_roles
from maestoso.server.access.shapes import FactorBegun
from maestoso.server.audit.record import recorded
from maestoso.server.common.secret_text import seal, unseal

ISSUER = "Maestoso"
TOLERANCE = 1
"""Steps of 30 s that a clock may be off."""
CODES = 10
SALT = "maestoso.recovery-code"


class NeedsCode(DomainError):
    """The password was right and a code is wanted. Remedy: give that of the authenticator app."""

    code = "needs-code"
    status = 403


class NeedsPasskey(DomainError):
    """The password was right, and a role wants a second factor. Remedy: sign in with a passkey."""

    code = "needs-passkey"
    status = 403


class WrongCode(DomainError):
    """A code that is not that of this moment, or was used. Remedy: wait for the next one."""

    code = "wrong-code"
    status = 403


def has_one(user: Any) -> bool:
    """Whether a person signs in with a code as well."""
    return SecondFactor.objects.filter(user=user.pk, confirmed_at__isnull=False).exists()


def has_passkey(user: Any) -> bool:
    """Whether a person can sign in with a passkey, which is two factors at once."""
    return Passkey.objects.filter(user=user.pk).exists()


def check_password_is_enough(user: Any) -> None:
    """Raises NeedsPasskey for who must have a second factor, and has a passkey for it and no codes."""
    roles = RoleGrant.objects.filter(user=user.pk).values_list("role", flat=True)
    if must_have_one(list(roles)) and not has_one(user) and has_passkey(user):
        raise NeedsPasskey(
            "The password is right; your role wants more than that.", "Sign in with your passkey."
        )


def must_have_one(roles: Collection[str]) -> list[str]:
    """Of these roles, those whose holders must have a second factor."""
    return sorted(RoleRule.objects.filter(role__in=roles).values_list("role", flat=True))


@recorded()
def begin(user: User) -> FactorBegun:
    """A new secret for the app; it counts once a code of it was given. Raises Refused where there is one."""
    if has_one(user):
        raise Refused("You have a second factor already.", "Remove it first.")
    if OutsideIdentity.objects.filter(user=user).exists():
        raise Refused("You do not sign in here.", "Set it up where you sign in.")
    key = secrets.token_bytes(20)
    text = base64.b32encode(key).decode()
    SecondFactor.objects.update_or_create(
        user=user, defaults={"secret": seal(text), "confirmed_at": None, "last_step": -1}
    )
    label = quote(f"{ISSUER}:{user.username}")
    uri = f"otpauth://totp/{label}?{urlencode({'secret': text, 'issuer': ISSUER})}"
    drawn = segno.make(uri, error="m").svg_data_uri(scale=4, border=2, dark="#000", light="#fff")
    return FactorBegun(secret=text, uri=uri, picture=drawn)


@recorded()
def confirm(user: User, code: str, now: datetime) -> tuple[str, ...]:
    """The first code of the app; gives the recovery codes, shown this once. Raises Refused, WrongCode."""
    row = SecondFactor.objects.select_for_update().filter(user=user, confirmed_at__isnull=True).first()
    if row is None:
        raise Refused("No second factor was begun.", "Begin anew.")
    _take(row, code, now)
    row.confirmed_at = now
    row.save()
    RecoveryCode.objects.filter(user=user).delete()
    made = tuple(_readable(secrets.token_bytes(8)) for _ in range(CODES))
    RecoveryCode.objects.bulk_create(RecoveryCode(user=user, digest=_digest(one)) for one in made)
    return made


def check(user: Any, code: str, now: datetime) -> None:
    """A code at sign-in, of the app or for recovery. Raises WrongCode."""
    digits = "".join(code.split())
    if settings.IS_STANDBY:
        _check_on_standby(user, digits, now)
    else:
        _check_and_use_up(user, code, digits, now)


@recorded()
def _check_and_use_up(user: Any, code: str, digits: str, now: datetime) -> None:
    if digits.isascii() and digits.isdigit():
        row = SecondFactor.objects.select_for_update().get(user=user.pk, confirmed_at__isnull=False)
        _take(row, code, now)
        row.save()
    elif not RecoveryCode.objects.filter(user=user.pk, digest=_digest(code)).delete()[0]:
        raise WrongCode("That is no recovery code, or it was used.", "Try another one of your list.")


def _check_on_standby(user: Any, digits: str, now: datetime) -> None:
    """Nothing is written there: that a code was taken is remembered by the process. Raises WrongCode."""
    if not (digits.isascii() and digits.isdigit()):
        raise WrongCode(
            "A standby takes no recovery codes: it could not use them up.",
            "Give the code of your authenticator app, or sign in once it has taken over.",
            field="one_time_code",
        )
    row = SecondFactor.objects.get(user=user.pk, confirmed_at__isnull=False)
    _take(row, digits, now)
    if not cache.add(f"code-taken:{user.pk}:{row.last_step}", True, 600):
        raise _not_of_this_moment()


@recorded()
def remove(user: User) -> None:
    """Sign-in goes without a code again."""
    for row in (*SecondFactor.objects.filter(user=user), *RecoveryCode.objects.filter(user=user)):
        row.delete()


@recorded()
def forget_devices(user: User) -> None:
    """For who lost them: neither codes nor passkeys of theirs are good any more."""
    remove(user)
    for row in Passkey.objects.filter(user=user):
        row.delete()


@recorded()
def set_rule(role: str, wanted: bool) -> None:
    """Whether holders of a role must have a second factor."""
    if wanted:
        RoleRule.objects.get_or_create(role=role)
    else:
        for row in RoleRule.objects.filter(role=role):
            row.delete()


def why_restricted(user: Any, roles: Collection[str]) -> str:
    """Why somebody may do nothing yet: a role of theirs wants a second factor; empty where it is there."""
    wanting = must_have_one(roles)
    if not wanting or has_one(user) or has_passkey(user):
        return ""
    known = known_roles(wanting)
    names = " and ".join(known[code].name.lower() for code in wanting if code in known)
    if OutsideIdentity.objects.filter(user=user.pk).exists():
        row = IdentityProvider.objects.first()
        if row is None or row.second_factor:
            return ""
        return (
            f"As {names} you must sign in with a second factor, and {row.name} is not known to ask for one. "
            "Ask an administrator."
        )
    return f"As {names} you must sign in with a code as well, or with a passkey, and have set up neither."


def _take(row: SecondFactor, code: str, now: datetime) -> None:
    """Raises WrongCode; a code is taken once."""
    totp = TOTP(base64.b32decode(unseal(row.secret)))
    totp.time = now.timestamp()
    digits = "".join(code.split())
    well_formed = len(digits) == 6 and digits.isascii() and digits.isdigit()
    if not well_formed or not totp.verify(int(digits), TOLERANCE, row.last_step + 1):
        raise _not_of_this_moment()
    row.last_step = totp.t()


def _not_of_this_moment() -> WrongCode:
    return WrongCode(
        "That is not the code of this moment, or it was used already.",
        "Wait for the next one; the clock of the device must be right.", field="one_time_code",
    )  # fmt: skip


def _readable(raw: bytes) -> str:
    text = base64.b32encode(raw).decode().rstrip("=").lower()
    return f"{text[:4]}-{text[4:8]}-{text[8:]}"


def _digest(code: str) -> str:
    plain = "".join(code.lower().split()).replace("-", "")
    return salted_hmac(SALT, plain, algorithm="sha256").hexdigest()
