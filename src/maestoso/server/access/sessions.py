"""How long a session lasts: not for ever, and not while nobody is there."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

from django.conf import settings
from django.contrib.auth import HASH_SESSION_KEY, SESSION_KEY, get_user_model, logout
from django.contrib.auth.models import update_last_login
from django.contrib.sessions.backends.cache import SessionStore as CacheStore
from django.contrib.sessions.models import Session
from django.http import HttpRequest
from django.utils.crypto import constant_time_compare
from django.utils.deprecation import MiddlewareMixin
from rest_framework.exceptions import AuthenticationFailed

from maestoso.core.people.roles import SEE, roles_with
from maestoso.engine.clock import SystemClock
from maestoso.server.access.models import ApiToken, RoleGrant
from maestoso.server.access.roles import known_roles
from maestoso.server.access.shapes import SessionView
from maestoso.server.access.tokens import BadToken, BearerTokens
from maestoso.server.config.settings import OPTIONS

CLOCK = SystemClock()
BEGAN, SEEN, ADDRESS, BROWSER = "began", "seen", "address", "browser"
NOTED_EVERY_S = 30.0
TOKEN = "Bearer "
"""What a program has instead of a session begins with this."""
IDLE = "HTTP_MAESTOSO_IDLE"
"""Seconds since a person last touched mouse or keys, as pages that ask by themselves say of each question."""


def begin(sender: Any, request: HttpRequest, **more: Any) -> None:
    """A person signed in, in whatever way."""
    request.session[BEGAN] = request.session[SEEN] = CLOCK.now().timestamp()
    request.session[ADDRESS] = str(request.META.get("REMOTE_ADDR") or "")[:60]
    request.session[BROWSER] = request.headers.get("User-Agent", "")[:200]


def note_last(sender: Any, user: Any, **more: Any) -> None:
    """When a person signed in last stands in the records; those of a standby are its primary's."""
    if not settings.IS_STANDBY:
        update_last_login(sender, user)


def over(data: dict[str, Any], now: datetime) -> bool:
    """Whether a session has lasted too long, or nobody has been there for too long."""
    at = now.timestamp()
    began, seen = data.get(BEGAN), data.get(SEEN)
    if not isinstance(began, int | float) or not isinstance(seen, int | float):
        return True
    return at - began > OPTIONS.session_hours * 3600 or at - seen > OPTIONS.session_idle_minutes * 60


class SessionLimits(MiddlewareMixin):
    """Ends sessions that are over, and notes when somebody was there."""

    def process_request(self, request: HttpRequest) -> None:
        """Behind Django's own: the session and its user are known."""
        if SESSION_KEY not in request.session:
            return
        now = CLOCK.now()
        if over(dict(request.session.items()), now):
            logout(request)
            return
        said = request.META.get(IDLE, "0")
        idle = min(int(said), 10**9) if said.isascii() and said.isdigit() and len(said) < 10 else 0
        seen = now.timestamp() - idle
        if seen - request.session[SEEN] > NOTED_EVERY_S:
            request.session[SEEN] = seen


def ended(keys: Iterable[str]) -> set[str]:
    """Which of these sessions are no more: signed out, over, of an account that changed or is
    gone, or of somebody who may not see anything. A program has a token instead (:data:`TOKEN`)."""
    all_keys, now = set(keys), CLOCK.now()
    tokens = {key for key in all_keys if key.startswith(TOKEN)}
    wanted = all_keys - tokens
    data = held_by(wanted)
    users = {str(user.pk): user for user in get_user_model().objects.filter(pk__in=_numbers(data.values()))}

    codes = [role.code for role in roles_with(SEE, known_roles())]
    grants = RoleGrant.objects.filter(user__in=users.values(), role__in=codes)
    seeing = set(grants.values_list("user", flat=True))

    def good(key: str) -> bool:
        kept = data.get(key)
        user = users.get(str(kept.get(SESSION_KEY))) if kept else None
        return (
            kept is not None and user is not None and user.is_active and not over(kept, now)
            and constant_time_compare(str(kept.get(HASH_SESSION_KEY)), user.get_session_auth_hash())
            and user.pk in seeing
        )  # fmt: skip

    return {key for key in wanted if not good(key)} | {key for key in tokens if not _sees(key)}


def held_by(keys: Iterable[str]) -> dict[str, dict[str, Any]]:
    """What the sessions of these keys hold; without those that are none."""
    if settings.IS_STANDBY:
        return {key: found for key in keys if (found := CacheStore(key).load())}
    rows = Session.objects.filter(session_key__in=keys, expire_date__gt=CLOCK.now())
    return {row.session_key: row.get_decoded() for row in rows}


def _sees(key: str) -> bool:
    token = shown_by(key)
    if token is None:
        return False
    known = known_roles(token.roles)
    grants = RoleGrant.objects.filter(user=token.user_id, role__in=token.roles)
    own = grants.values_list("role", flat=True)
    return any(SEE in known[role].permissions for role in own if role in known)


def shown_by(key: str) -> ApiToken | None:
    """The token that is shown; None for one that lets nobody in."""
    token: ApiToken
    try:
        _, token = BearerTokens().authenticate_credentials(key.removeprefix(TOKEN).encode())
    except (AuthenticationFailed, BadToken):
        return None
    return token


def of_user(pk: int | None, here: str | None) -> tuple[SessionView, ...]:
    """The sessions of a person, the latest seen first; ``here`` is the key of the one that asks."""
    found = [
        SessionView(
            began_at=datetime.fromtimestamp(data[BEGAN], UTC),
            seen_at=datetime.fromtimestamp(data[SEEN], UTC),
            address=data.get(ADDRESS, ""), browser=data.get(BROWSER, ""), here=key == here,
        )
        for key, data in _held(pk).items()
    ]  # fmt: skip
    return tuple(sorted(found, key=lambda one: one.seen_at, reverse=True))


def end_others(pk: int | None, here: str | None) -> None:
    """End all sessions of a person but one."""
    Session.objects.filter(session_key__in=[key for key in _held(pk) if key != here]).delete()


def _held(pk: int | None) -> dict[str, dict[str, Any]]:
    """What the sessions of a person hold. Sessions have no column for it; of them there are some hundreds."""
    now = CLOCK.now()
    rows = Session.objects.filter(expire_date__gt=now)
    data = {row.session_key: row.get_decoded() for row in rows}
    return {key: one for key, one in data.items() if one.get(SESSION_KEY) == str(pk) and not over(one, now)}


def _numbers(sessions: Iterable[dict[str, Any]]) -> set[int]:
    return {int(one[SESSION_KEY]) for one in sessions if str(one.get(SESSION_KEY, "")).isdigit()}
