"""Signing in and out."""

from __future__ import annotations

import secrets

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from drf_spectacular.utils import extend_schema
from rest_framework.authentication import SessionAuthentication
from rest_framework.exceptions import Throttled
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.core.errors import DomainError
from maestoso.core.people.roles import CHANGE_SETTINGS, READ_AUDIT, SEE, WORDS, permissions_of
from maestoso.engine.clock import SystemClock
from maestoso.server.access import second_factor
from maestoso.server.access.may import lacking, roles_of
from maestoso.server.access.people import provider_name, reading_of
from maestoso.server.access.reach import only_for
from maestoso.server.access.roles import known_roles
from maestoso.server.access.shapes import Session, SignIn
from maestoso.server.access.tries import TRIES, TooManyAtOnce, counted_as, remember_browser
from maestoso.server.audit.record import recorded
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.config.settings import OPTIONS
from maestoso.server.organisation.services import organisation

CLOCK = SystemClock()
READING = frozenset({SEE, READ_AUDIT})
ONLY_FOLLOWS = "This is a standby: it shows what its primary has, and changes nothing until it takes over."


class WrongSignIn(DomainError):
    """Name and password do not belong together. Remedy: try again."""

    code = "wrong-sign-in"
    status = 403


class _SignInThrottle(ScopedRateThrottle):
    """Counts tries to sign in, not looks at the session."""

    def allow_request(self, request: Request, view: APIView) -> bool:
        return request.method != "POST" or super().allow_request(request, view)


class SessionView(APIView):
    """The session of the browser."""

    throttle_classes = [_SignInThrottle]
    throttle_scope = "signin"

    @extend_schema(operation_id="session", responses=shape(Session))
    def get(self, request: Request) -> Response:
        """Who is signed in."""
        return reply(session_view(request))

    @extend_schema(operation_id="signIn", request=shape(SignIn, sent=True), responses=shape(Session))
    def post(self, request: Request) -> Response:
        """Sign in."""
        # The framework asks for the token of those who are signed in only; here nobody is, yet.
        SessionAuthentication().enforce_csrf(request)
        given = read(SignIn, request)
        counted = counted_as(request, given.name)
        try:
            TRIES.wait(counted)
        except TooManyAtOnce as error:
            raise Throttled(error.wait_s) from error
        user = authenticate(request, username=given.name, password=given.password)
        if user is None:
            TRIES.failed(counted)
            raise WrongSignIn("Name and password do not belong together.", "Check both and try again.")
        if second_factor.has_one(user):
            if not given.one_time_code.strip():
                raise second_factor.NeedsCode(
                    "The password is right; a code is wanted as well.",
                    "Give that of your authenticator app, or a recovery code.", field="one_time_code",
                )  # fmt: skip
            try:
                second_factor.check(user, given.one_time_code, CLOCK.now())
            except second_factor.WrongCode:
                TRIES.failed(counted)
                raise
        second_factor.check_password_is_enough(user)
        TRIES.succeeded(counted)
        with recorded():
            login(request, user)
        request.user = user
        answer = reply(session_view(request))
        remember_browser(answer, user.pk, secrets.token_hex(8))
        return answer

    @extend_schema(operation_id="signOut", responses={204: None})
    def delete(self, request: Request) -> Response:
        """Sign out."""
        logout(request)
        return Response(status=204)


def session_view(request: Request) -> Session:
    """Who is signed in, and what they may do."""
    own = organisation()
    user = request.user
    roles = roles_of(request) if user.is_authenticated else frozenset()
    held = permissions_of(roles, known_roles(roles))
    may_take_over = settings.IS_STANDBY and CHANGE_SETTINGS in held
    lacks = lacking(roles) if user.is_authenticated else {}
    if settings.IS_STANDBY:
        held &= READING
        lacks |= {one: ONLY_FOLLOWS for one in WORDS if one not in READING}
    restricted = second_factor.why_restricted(user, roles) if user.is_authenticated else ""
    return Session(
        name=user.get_username(),
        full_name=user.first_name if user.is_authenticated else "",
        organisation=own.organisation,
        time_zone=own.time_zone,
        csrf=get_token(request._request),
        roles=tuple(sorted(roles)),
        permissions=tuple(one for one in WORDS if one in held),
        lacking=lacks,
        restricted=restricted,
        only=only_for(request) if user.is_authenticated else "",
        provider=provider_name(),
        reading=reading_of(user),
        mail=bool(OPTIONS.mail_server) and not settings.IS_STANDBY,
        standby=settings.IS_STANDBY,
        may_take_over=may_take_over,
    )
