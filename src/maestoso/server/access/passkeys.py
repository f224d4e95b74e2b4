"""Signing in with a passkey (Web Authentication): a device holds it, and asks its owner before it signs.

That the owner was asked, by a PIN or a finger, is demanded: so a passkey is two factors at once. It is bound
to the name of this site, and good for no page that imitates it.
"""

from __future__ import annotations

import hashlib
import logging
from datetime import datetime
from typing import Any
from urllib.parse import urlsplit

from django.contrib.auth.models import User
from django.utils.crypto import salted_hmac
from rest_framework.request import Request
from webauthn import (
    generate_authentication_options,
    generate_registration_options,
    options_to_json,
    verify_authentication_response,
    verify_registration_response,
)
from webauthn.helpers import base64url_to_bytes, bytes_to_base64url, parse_authentication_credential_json
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from maestoso.core.errors import BadValue, DomainError, NotFound, Refused
from maestoso.server.access.models import OutsideIdentity, Passkey
from maestoso.server.access.shapes import PasskeySave, PasskeyView
from maestoso.server.audit.record import recorded
from maestoso.server.common.public import origin

log = logging.getLogger("maestoso.access")
CHALLENGE = "passkey-challenge"
NAME = "Maestoso"
MOST = 20
LONGEST_ANSWER = 20_000


class WrongPasskey(DomainError):
    """What a device answered is not good. Remedy: try again, or sign in with the password."""

    code = "wrong-passkey"
    status = 403


def options_to_add(request: Request, user: User) -> str:
    """What the browser needs to make a passkey, as JSON. Raises Refused."""
    if OutsideIdentity.objects.filter(user=user).exists():
        raise Refused("You do not sign in here.", "Make a passkey where you sign in.")
    known = list(Passkey.objects.filter(user=user))
    if len(known) >= MOST:
        raise Refused(f"You have {MOST} passkeys.", "Remove those that you do not use.")
    options = generate_registration_options(
        rp_id=_site(request), rp_name=NAME, user_name=user.username,
        user_id=salted_hmac("maestoso.passkey", str(user.pk), algorithm="sha256").digest(),
        user_display_name=user.first_name or user.username,
        authenticator_selection=AuthenticatorSelectionCriteria(
            resident_key=ResidentKeyRequirement.REQUIRED,
            user_verification=UserVerificationRequirement.REQUIRED,
        ),
        exclude_credentials=[
            PublicKeyCredentialDescriptor(id=base64url_to_bytes(row.credential)) for row in known
        ],
    )  # fmt: skip
    request.session[CHALLENGE] = bytes_to_base64url(options.challenge)
    return options_to_json(options)


@recorded()
def add(request: Request, user: User, sent: PasskeySave, now: datetime) -> None:
    """Add what a device made. Raises BadValue, WrongPasskey."""
    name = " ".join(sent.name.split())
    if not 1 <= len(name) <= 80:
        raise BadValue("The passkey has no name, or a long one.", "Give 1 to 80 characters.", field="name")
    challenge = _challenge(request)
    try:
        made = verify_registration_response(
            credential=_bounded(sent.credential), expected_challenge=challenge, expected_rp_id=_site(request),
            expected_origin=origin(request), require_user_verification=True,
        )  # fmt: skip
    except WebAuthnException as error:
        raise _not_good(error) from error
    credential = bytes_to_base64url(made.credential_id)
    if Passkey.objects.filter(digest=_digest(credential)).exists():
        raise WrongPasskey("This passkey is known already.", "Use another device.")
    Passkey.objects.create(
        user=user, name=name, credential=credential, digest=_digest(credential),
        public_key=made.credential_public_key, signed=made.sign_count, made_at=now,
    )  # fmt: skip


@recorded()
def remove(user: User, number: int) -> None:
    """It is good for nothing any more. Raises NotFound."""
    row = Passkey.objects.filter(user=user, pk=number).first()
    if row is None:
        raise NotFound("You have no such passkey.", "Load the page again.")
    row.delete()


def options_to_sign_in(request: Request) -> str:
    """What the browser needs to ask a device for its passkey, as JSON."""
    options = generate_authentication_options(
        rp_id=_site(request), user_verification=UserVerificationRequirement.REQUIRED
    )
    request.session[CHALLENGE] = bytes_to_base64url(options.challenge)
    return options_to_json(options)


@recorded()
def signed_in(request: Request, answer: str, now: datetime) -> User:
    """Whose passkey has signed. Raises WrongPasskey, the same for whatever is wrong."""
    challenge = _challenge(request)
    try:
        shown = parse_authentication_credential_json(_bounded(answer))
        rows = Passkey.objects.select_for_update().select_related("user")
        row = rows.filter(digest=_digest(shown.id)).first()
        if row is None or not row.user.is_active:
            raise _not_good(None)
        found = verify_authentication_response(
            credential=shown, expected_challenge=challenge, expected_rp_id=_site(request),
            expected_origin=origin(request), credential_public_key=bytes(row.public_key),
            credential_current_sign_count=row.signed, require_user_verification=True,
        )  # fmt: skip
    except WebAuthnException as error:
        raise _not_good(error) from error
    row.signed, row.used_at = found.new_sign_count, now
    row.save()
    return row.user


def passkey_view(row: Passkey) -> PasskeyView:
    """A passkey in the list of its person."""
    return PasskeyView(id=row.pk, name=row.name, made_at=row.made_at, used_at=row.used_at)


def of_user(user: Any) -> tuple[PasskeyView, ...]:
    """The passkeys of a person, the oldest first."""
    return tuple(passkey_view(row) for row in Passkey.objects.filter(user=user.pk))


def _challenge(request: Request) -> bytes:
    """That of this browser, good once. Raises WrongPasskey."""
    kept = request.session.pop(CHALLENGE, None)
    if not isinstance(kept, str):
        raise WrongPasskey("This is no answer to a question of this browser.", "Begin again.")
    return base64url_to_bytes(kept)


def _digest(credential: str) -> str:
    return hashlib.sha256(credential.encode()).hexdigest()


def _bounded(answer: str) -> str:
    if len(answer) > LONGEST_ANSWER:
        raise BadValue("credential is very large.", "Send what the browser gave.", field="credential")
    return answer


def _not_good(error: WebAuthnException | None) -> WrongPasskey:
    if error is not None:
        log.info("A passkey was refused: %s", error)
    return WrongPasskey("This passkey does not let you in.", "Try again, or sign in with your password.")


def _site(request: Request) -> str:
    """The name that passkeys are bound to."""
    return urlsplit(origin(request)).hostname or ""
