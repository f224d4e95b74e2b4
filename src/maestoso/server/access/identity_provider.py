"""Signing in through a provider of the organisation (OpenID Connect: discovery, code flow, PKCE).

An account signs in either here, with a password, or at the provider; then second factors are the provider's
affair. What the provider says of keys and addresses is read anew at every sign-in: what it withdrew is not
trusted a moment longer.
"""

from __future__ import annotations

import logging
from collections.abc import Mapping
from datetime import datetime
from types import SimpleNamespace
from typing import Any
from urllib.parse import urlsplit

from authlib.common.errors import AuthlibBaseError
from authlib.integrations.django_client import OAuth
from authlib.integrations.django_client.apps import DjangoOAuth2App
from django.contrib.auth.models import User
from django.contrib.auth.validators import UnicodeUsernameValidator
from django.core.exceptions import ValidationError
from joserfc.errors import JoseError
from requests import RequestException
from rest_framework.request import Request

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, DomainError, NotFound, Refused
from maestoso.core.people.scope import Scope
from maestoso.server.access.models import IdentityProvider, OutsideIdentity, RoleGrant
from maestoso.server.access.reach import check_scopes
from maestoso.server.access.roles import check_codes
from maestoso.server.access.shapes import ProviderFound, ProviderSave, ProviderView
from maestoso.server.audit.record import recorded
from maestoso.server.common.public import origin
from maestoso.server.common.secret_text import seal, unseal

log = logging.getLogger("maestoso.access")
SCOPES = "openid profile email"
WELL_KNOWN = "/.well-known/openid-configuration"
PATIENCE_S = 10
LEEWAY_S = 60
"""How far the clocks of provider and Maestoso may differ."""
COMES_BACK_TO = "/sign-in/provider"
"""The page that the provider sends people back to."""
SIGNED = (
    "RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA",
)  # fmt: skip
"""Signatures that only the provider can make: not none, nor one that the client's secret is enough for."""
LONGEST_NAME = 150


class ProviderFailed(DomainError):
    """The provider does not answer, or not as it must. Remedy: sign in here, or try again later."""

    code = "provider-failed"
    status = 502


class NotLetIn(DomainError):
    """The provider knows somebody whom Maestoso does not let in. Remedy: ask an administrator."""

    code = "not-let-in"
    status = 403


def provider() -> IdentityProvider | None:
    """The provider, where there is one."""
    return IdentityProvider.objects.first()


def provider_view() -> ProviderView | None:
    """The provider as administrators see it; the secret is never shown."""
    row = provider()
    if row is None:
        return None
    return ProviderView(
        name=row.name, issuer=row.issuer, client_id=row.client_id, groups_claim=row.groups_claim,
        roles=row.roles, scopes={group: from_data(Scope, one) for group, one in row.scopes.items()},
        makes_accounts=row.makes_accounts, second_factor=row.second_factor, comes_back_to=COMES_BACK_TO,
    )  # fmt: skip


@recorded()
def save_provider(sent: ProviderSave) -> None:
    """The provider as it shall be; without a secret, the one of now stays. Raises BadValue."""
    row = provider() or IdentityProvider(pk=1)
    issuer = sent.issuer.strip().rstrip("/")
    if not is_safe(issuer):
        raise BadValue(
            f"{issuer[:60]!r} is no address of a provider.",
            "Give its issuer, such as https://sign-in.tidewell.example; https is needed but on this machine.",
            field="issuer",
        )
    for field, value, most in (("name", sent.name, 80), ("client_id", sent.client_id, 200)):
        if not 1 <= len(value.strip()) <= most:
            raise BadValue(f"{field} is empty or long.", f"Give 1 to {most} characters.", field=field)
    check_codes({role for roles in sent.roles.values() for role in roles})
    idle = next((group for group, roles in sent.roles.items() if not group.strip() or not roles), None)
    if idle is not None:
        raise BadValue(
            f"The group {idle[:60]!r} gives no role." if idle.strip() else "A group has no name.",
            "Name it and choose roles for it, or remove it.", field="roles",
        )  # fmt: skip
    check_scopes(sent.scopes)
    if not sent.client_secret and not row.client_secret:
        raise BadValue(
            "There is no secret.", "Give the secret that the provider gave Maestoso.", field="client_secret"
        )
    if row.issuer != issuer:
        # Another provider numbers its people as it likes.
        OutsideIdentity.objects.update(subject=None)
    row.name, row.issuer, row.client_id = sent.name.strip(), issuer, sent.client_id.strip()
    if sent.client_secret:
        row.client_secret = seal(sent.client_secret)
    row.groups_claim = sent.groups_claim.strip()[:80]
    row.roles = {group.strip(): sorted(set(roles)) for group, roles in sent.roles.items()}
    row.scopes = {
        group.strip(): to_data(scope)
        for group, scope in sent.scopes.items() if group.strip() in row.roles and not scope.is_everything
    }  # fmt: skip
    row.makes_accounts, row.second_factor = sent.makes_accounts, sent.second_factor
    row.save()


@recorded()
def remove_provider() -> None:
    """Nobody signs in through it any more. Raises Refused while accounts do."""
    count = OutsideIdentity.objects.count()
    if count:
        raise Refused(
            f"{count} {'account signs' if count == 1 else 'accounts sign'} in through it.",
            "Let them sign in with a password first: on the page People.",
        )  # fmt: skip
    for row in IdentityProvider.objects.all():
        row.delete()


def try_provider() -> ProviderFound:
    """What the provider says of itself now. Raises NotFound, ProviderFailed."""
    row = _there()
    client = _client(row)
    said = _discover(row, client)
    try:
        keys = client.fetch_jwk_set().get("keys", [])
    except (RequestException, ValueError) as error:
        raise _does_not_answer(row) from error
    return ProviderFound(
        issuer=str(said["issuer"]), authorization=str(said["authorization_endpoint"]), keys=len(keys)
    )


def begin(request: Request) -> str:
    """The address at the provider where somebody signs in. Raises NotFound, ProviderFailed."""
    row = _there()
    client = _client(row)
    _discover(row, client)
    back = origin(request) + COMES_BACK_TO
    asked = client.create_authorization_url(back)
    client.save_authorize_data(request, redirect_uri=back, **asked)
    return str(asked["url"])


def claims_of(request: Request, code: str, state: str) -> Mapping[str, Any]:
    """Whom the provider says has signed in. Raises NotFound, NotLetIn for an answer that is none to a
    question of this browser, ProviderFailed."""
    row = _there()
    client = _client(row)
    if not client.framework.get_state_data(request.session, state):
        raise NotLetIn(
            "This answer of the provider is to no question of this browser, or was used.",
            "Begin to sign in again.",
        )
    _discover(row, client)
    came = SimpleNamespace(
        method="POST", POST={"code": code, "state": state}, session=request.session, GET={}
    )
    try:
        token = client.authorize_access_token(came, leeway=LEEWAY_S)  # type: ignore[no-untyped-call]
    except RequestException as error:
        raise _does_not_answer(row) from error
    except (AuthlibBaseError, JoseError, ValueError, KeyError, TypeError) as error:
        log.warning("What %s says of somebody is not good: %s", row.issuer, error)
        raise ProviderFailed(
            f"What {row.name} says of you cannot be trusted: {_why(error)}.",
            "Try again; tell an administrator if it stays so.",
        ) from error
    said = token.get("userinfo")
    if not said or not isinstance(said.get("sub"), str) or not 1 <= len(said["sub"]) <= 255:
        raise ProviderFailed(
            f"{row.name} did not say who you are.", "Tell an administrator: its answer has no ID token."
        )
    return dict(said)


@recorded()
def account_for(said: Mapping[str, Any], at: datetime) -> User:
    """The account of whom the provider named, with the roles that it gives. Raises NotLetIn."""
    row = _there()
    name = _name(said)
    # Whoever signs in twice at once must not be made twice.
    IdentityProvider.objects.select_for_update().get(pk=row.pk)
    known = OutsideIdentity.objects.filter(subject=said["sub"]).select_related("user").first()
    if known is None:
        known = OutsideIdentity.objects.filter(subject=None, user__username=name).first()
        if known is None:
            known = OutsideIdentity(user=_new_account(row, name, said))
        known.subject = said["sub"]
        known.save()
    user = known.user
    if not user.is_active:
        raise NotLetIn(f"The account {user.username} is disabled.", "Ask an administrator.")
    _give(row, user, said, at)
    return user


def _new_account(row: IdentityProvider, name: str, said: Mapping[str, Any]) -> User:
    if User.objects.filter(username__iexact=name).exists():
        raise NotLetIn(
            f"There is an account {name} that does not sign in through {row.name}, or belongs to somebody "
            f"else there.",
            f"Ask an administrator to let it sign in through {row.name}.",
        )
    if not row.makes_accounts:
        raise NotLetIn(
            f"{row.name} knows you as {name}, and no account of that name is here.",
            "Ask an administrator to invite you.",
        )
    mail = said.get("email") if said.get("email_verified") else ""
    user = User(username=name, first_name=str(said.get("name") or name)[:80], email=str(mail or "")[:254])
    user.set_unusable_password()
    user.save()
    return user


def _give(row: IdentityProvider, user: User, said: Mapping[str, Any], at: datetime) -> None:
    """The roles of the groups that somebody is in now; those that were given by hand stay."""
    claimed = said.get(row.groups_claim) if row.groups_claim else ()
    groups = [claimed] if isinstance(claimed, str) else claimed if isinstance(claimed, list | tuple) else ()
    wanted: dict[str, str] = {}
    for group in groups:
        for role in row.roles.get(group, ()) if isinstance(group, str) else ():
            wanted.setdefault(role, group)
    for grant in RoleGrant.objects.filter(user=user):
        group = wanted.get(grant.role)
        if not grant.group or (group == grant.group and row.scopes.get(group, {}) == grant.scope):
            wanted.pop(grant.role, None)
        else:
            grant.delete()
    for role, group in wanted.items():
        RoleGrant.objects.create(
            user=user, role=role, scope=row.scopes.get(group, {}), by=row.name, group=group, at=at
        )


def _name(said: Mapping[str, Any]) -> str:
    """What somebody is called here. Raises NotLetIn where the provider gives nothing that can be a name."""
    for claim in ("preferred_username", "email", "sub"):
        name = said.get(claim)
        if isinstance(name, str) and 1 <= len(name) <= LONGEST_NAME:
            try:
                UnicodeUsernameValidator()(name)
            except ValidationError:
                continue
            return name
    raise NotLetIn(
        "The provider calls you nothing that can be a name here.",
        "Ask an administrator: it must give preferred_username of letters, digits and @ . + - _ only.",
    )


def _there() -> IdentityProvider:
    row = provider()
    if row is None:
        raise NotFound("There is no provider to sign in through.", "Sign in with a password.")
    return row


def _client(row: IdentityProvider) -> DjangoOAuth2App:
    found: DjangoOAuth2App = OAuth().register(
        "provider", client_id=row.client_id, client_secret=unseal(row.client_secret),
        server_metadata_url=f"{row.issuer}{WELL_KNOWN}",
        client_kwargs={"scope": SCOPES, "code_challenge_method": "S256", "default_timeout": PATIENCE_S},
    )  # fmt: skip
    return found


def _discover(row: IdentityProvider, client: DjangoOAuth2App) -> dict[str, Any]:
    """What the provider says of itself at this moment, which the client then knows. Raises ProviderFailed."""
    try:
        said: dict[str, Any] = client.load_server_metadata()
    except (RequestException, ValueError) as error:
        raise _does_not_answer(row) from error
    lacks = [
        key for key in ("authorization_endpoint", "token_endpoint", "jwks_uri")
        if not isinstance(said.get(key), str) or not is_safe(said[key])
    ]  # fmt: skip
    if str(said.get("issuer", "")).rstrip("/") != row.issuer:
        raise ProviderFailed(
            f"{row.issuer} says that it is {str(said.get('issuer', 'nobody'))[:80]}.",
            "Correct the issuer: it must be written as the provider itself writes it.",
        )
    if lacks:
        raise ProviderFailed(
            f"What {row.name} says of itself has no good {lacks[0]}.", "Ask who looks after the provider."
        )
    offered = said.get("id_token_signing_alg_values_supported") or ["RS256"]
    said["id_token_signing_alg_values_supported"] = [one for one in SIGNED if one in offered]
    return said


def is_safe(address: str) -> bool:
    """Whether it is an address that nobody on the way can answer for: https, or on this machine."""
    try:
        parts = urlsplit(address)
        host = parts.hostname
    except ValueError:
        return False
    here = parts.scheme == "http" and host in ("localhost", "127.0.0.1", "::1")
    return bool(host) and (parts.scheme == "https" or here) and not parts.username and len(address) <= 300


def _does_not_answer(row: IdentityProvider) -> ProviderFailed:
    return ProviderFailed(
        f"{row.name} does not answer as a provider does.",
        "Try again later. Who has a password here can sign in with it; an administrator can look at the "
        "provider's address.",
    )


def _why(error: Exception) -> str:
    """The fault in the words of the library, short."""
    said = getattr(error, "description", "") or str(error) or type(error).__name__
    return str(said).strip().rstrip(".")[:200]
