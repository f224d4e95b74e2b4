"""Signing in and out."""

from __future__ import annotations

import secrets
from dataclasses import dataclass

from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from drf_spectacular.utils import extend_schema
from rest_framework.authentication import SessionAuthentication
from rest_framework.exceptions import Throttled
from rest_framework.permissions import AllowAny
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.core.errors import DomainError
from maestoso.server.access.tries import TRIES, TooManyAtOnce, counted_as, remember_browser
from maestoso.server.audit.record import recorded
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.organisation.services import organisation


@dataclass(frozen=True, slots=True, kw_only=True)
class SignIn:
    """Name and password."""

    name: str
    password: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Session:
    """Who is signed in; ``name`` is empty for nobody. ``csrf`` is the X-CSRFToken header of changes.

    ``time_zone`` is that of the organisation: new sites and drills begin with it.
    """

    name: str
    organisation: str
    time_zone: str
    csrf: str


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

    permission_classes = [AllowAny]
    throttle_classes = [_SignInThrottle]
    throttle_scope = "signin"

    @extend_schema(operation_id="session", responses=shape(Session))
    def get(self, request: Request) -> Response:
        """Who is signed in."""
        return reply(_session(request))

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
        TRIES.succeeded(counted)
        with recorded():
            login(request, user)
        answer = reply(_session(request))
        remember_browser(answer, user.pk, secrets.token_hex(8))
        return answer

    @extend_schema(operation_id="signOut", responses={204: None})
    def delete(self, request: Request) -> Response:
        """Sign out."""
        logout(request)
        return Response(status=204)


def _session(request: Request) -> Session:
    own = organisation()
    return Session(
        name=request.user.get_username(),
        organisation=own.organisation,
        time_zone=own.time_zone,
        csrf=get_token(request._request),
    )
