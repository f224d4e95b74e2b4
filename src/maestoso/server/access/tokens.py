"""Programs show a token: ``Authorization: Bearer …``."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from knox.auth import TokenAuthentication
from knox.settings import CONSTANTS
from rest_framework.authentication import get_authorization_header
from rest_framework.exceptions import AuthenticationFailed
from rest_framework.request import Request

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, DomainError, NotFound
from maestoso.core.people.scope import Scope
from maestoso.engine.clock import SystemClock
from maestoso.server.access.models import ApiToken, RoleGrant
from maestoso.server.access.shapes import TokenAsked, TokenMade, TokenView
from maestoso.server.audit.record import recorded

CLOCK = SystemClock()
LONGEST_DAYS = 366
MOST_TOKENS = 50
USE_NOTED_EVERY = timedelta(minutes=1)


class BadToken(DomainError):
    """A token is none, was revoked or has ended. Remedy: make a new one."""

    code = "bad-token"
    status = 401


class BearerTokens(TokenAuthentication):  # type: ignore[misc]  # the library has no types
    """Who a token stands for. What the trail writes down names the token as well."""

    def authenticate(self, request: Request) -> tuple[Any, ApiToken] | None:
        """Raises BadToken. None where none is shown."""
        shown = get_authorization_header(request).split()
        if not shown or shown[0].lower() != b"bearer":
            return None
        if len(shown) != 2 or not shown[1].isascii():
            raise BadToken("The header Authorization holds no token.", "Send it as: Bearer TOKEN.")
        try:
            user, token = self.authenticate_credentials(shown[1])
        except AuthenticationFailed as error:
            raise BadToken(
                "There is no such token: it was revoked, or is not whole.", "Make a new one under My account."
            ) from error
        now = CLOCK.now()
        stale = token.used_at is None or not timedelta(0) <= now - token.used_at < USE_NOTED_EVERY
        if stale and not settings.IS_STANDBY:
            ApiToken.objects.filter(pk=token.pk).update(used_at=now)
        request._request.maestoso_token = token.name  # type: ignore[attr-defined]
        return user, token

    def _cleanup_token(self, auth_token: ApiToken) -> bool:
        """A token that has ended stays in the list of its person, and says so. Raises BadToken."""
        if auth_token.expiry is not None and auth_token.expiry < CLOCK.now():
            raise BadToken(
                f"The token {auth_token.name} ended on {auth_token.expiry:%Y-%m-%d}.",
                "Make a new one under My account.",
            )
        return False


def token_view(token: ApiToken) -> TokenView:
    """A token without what would let somebody use it."""
    return TokenView(
        key=token.token_key, name=token.name, roles=tuple(token.roles), created_at=token.created,
        ends_at=token.expiry, used_at=token.used_at, only=from_data(Scope, token.scope).words(),
    )  # fmt: skip


@recorded()
def make_token(user: Any, asked: TokenAsked, now: datetime) -> TokenMade:
    """A token for a program of this person. Raises BadValue."""
    name = asked.name.strip()
    if not 1 <= len(name) <= 80:
        raise BadValue("The token has no name, or a long one.", "Give 1 to 80 characters.", field="name")
    if not 1 <= asked.days <= LONGEST_DAYS:
        raise BadValue(f"days is {asked.days}.", f"Give 1 to {LONGEST_DAYS}.", field="days")
    own = set(RoleGrant.objects.filter(user=user).values_list("role", flat=True))
    lacks = [role for role in asked.roles if role not in own]
    if lacks or not asked.roles:
        raise BadValue(
            f"You do not have the role {lacks[0][:40]!r}." if lacks else "The token would have no role.",
            f"Choose among your own: {', '.join(sorted(own)) or 'you have none'}.", field="roles",
        )  # fmt: skip
    if ApiToken.objects.filter(user=user).count() >= MOST_TOKENS:
        raise BadValue(f"You have {MOST_TOKENS} tokens.", "Revoke those that are not used.")
    roles = sorted(set(asked.roles))
    scope = {} if asked.scope.is_everything else to_data(asked.scope)
    row, token = ApiToken.objects.create(
        user, timedelta(days=asked.days), "", name=name, roles=roles, scope=scope
    )
    return TokenMade(secret=token, token=token_view(row))


@recorded()
def revoke_token(user: Any, key: str) -> None:
    """It lets nobody in any more, from now on. Raises NotFound."""
    row = ApiToken.objects.filter(user=user, token_key=key[: CONSTANTS.TOKEN_KEY_LENGTH]).first()
    if row is None:
        raise NotFound("You have no such token.", "Load the page again.")
    row.delete()
