"""Passkeys over HTTP: these translate, nothing else."""

from __future__ import annotations

from typing import cast

from django.contrib.auth import login
from django.contrib.auth.models import User
from drf_spectacular.utils import extend_schema
from rest_framework.authentication import SessionAuthentication
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.access import passkeys
from maestoso.server.access.account_views import account_reply, check_password
from maestoso.server.access.shapes import (
    Account,
    PasskeyAnswer,
    PasskeyOptions,
    PasskeySave,
    PasswordGiven,
    Session,
)
from maestoso.server.access.views import session_view
from maestoso.server.audit.record import recorded
from maestoso.server.common.shapes import read, reply, shape

CLOCK = SystemClock()


class OptionsToAdd(APIView):
    """Where adding a passkey begins."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(
        operation_id="beginPasskey", request=shape(PasswordGiven, sent=True), responses=shape(PasskeyOptions)
    )
    def post(self, request: Request) -> Response:
        """What the browser needs to make a passkey; it wants the password of now."""
        check_password(request, read(PasswordGiven, request).password)
        return reply(PasskeyOptions(options=passkeys.options_to_add(request, cast(User, request.user))))


class Passkeys(APIView):
    """One's own passkeys."""

    @extend_schema(
        operation_id="addPasskey", request=shape(PasskeySave, sent=True), responses={201: shape(Account)}
    )
    def post(self, request: Request) -> Response:
        """Add what the device made."""
        passkeys.add(request, cast(User, request.user), read(PasskeySave, request), CLOCK.now())
        return account_reply(request, 201)


class OnePasskey(APIView):
    """One of them."""

    @extend_schema(operation_id="removePasskey", request=None, responses={200: shape(Account)})
    def delete(self, request: Request, pk: int) -> Response:
        """Remove it."""
        passkeys.remove(cast(User, request.user), pk)
        return account_reply(request)


class OptionsToSignIn(APIView):
    """Where signing in with a passkey begins."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(operation_id="beginPasskeySignIn", request=None, responses=shape(PasskeyOptions))
    def post(self, request: Request) -> Response:
        """What the browser needs to ask a device for its passkey."""
        SessionAuthentication().enforce_csrf(request)
        return reply(PasskeyOptions(options=passkeys.options_to_sign_in(request)))


class SignInWithPasskey(APIView):
    """Signing in with a passkey; an answer to no question is refused before anything is looked at."""

    @extend_schema(
        operation_id="signInWithPasskey", request=shape(PasskeyAnswer, sent=True), responses=shape(Session)
    )
    def post(self, request: Request) -> Response:
        """Sign in with what the device signed."""
        SessionAuthentication().enforce_csrf(request)
        sent = read(PasskeyAnswer, request)
        with recorded():
            user = passkeys.signed_in(request, sent.credential, CLOCK.now())
            login(request, user, backend="django.contrib.auth.backends.ModelBackend")
        request.user = user
        return reply(session_view(request))
