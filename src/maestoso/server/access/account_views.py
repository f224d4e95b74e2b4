"""One's own account over HTTP."""

from __future__ import annotations

from typing import cast

from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.models import User
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.access import passkeys, people, second_factor, sessions, tokens
from maestoso.server.access.may import roles_of
from maestoso.server.access.models import ApiToken, OutsideIdentity, RecoveryCode
from maestoso.server.access.reach import check_scopes, scopes_of
from maestoso.server.access.roles import known_roles
from maestoso.server.access.shapes import (
    Account,
    AccountSave,
    FactorBegun,
    FactorCode,
    FactorConfirmed,
    PasswordChange,
    PasswordGiven,
    ReadingSave,
    Session,
    TokenAsked,
    TokenMade,
)
from maestoso.server.access.views import WrongSignIn, session_view
from maestoso.server.audit.record import recorded
from maestoso.server.common.shapes import read, reply, shape

CLOCK = SystemClock()


class AccountView(APIView):
    """Whoever is signed in."""

    @extend_schema(operation_id="account", responses=shape(Account))
    def get(self, request: Request) -> Response:
        """One's own account, with its roles, sessions and tokens."""
        return account_reply(request)

    @extend_schema(
        operation_id="saveAccount", request=shape(AccountSave, sent=True), responses=shape(Account)
    )
    def put(self, request: Request) -> Response:
        """Change one's own name and mail."""
        people.save_account(request.user, read(AccountSave, request))
        return account_reply(request)


class ReadingView(APIView):
    """How one reads."""

    @extend_schema(
        operation_id="saveReading", request=shape(ReadingSave, sent=True), responses=shape(Session)
    )
    def put(self, request: Request) -> Response:
        """Choose time zone, form of dates, and theme."""
        people.save_reading(cast(User, request.user), read(ReadingSave, request))
        return reply(session_view(request))


class Password(APIView):
    """One's own password."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(
        operation_id="changePassword", request=shape(PasswordChange, sent=True), responses=shape(Account)
    )
    def post(self, request: Request) -> Response:
        """Change one's own password; all other sessions end."""
        sent = read(PasswordChange, request)
        user = request.user
        check_password(request, sent.password)
        with recorded():
            people.set_password(user, sent.new_password, field="new_password")  # type: ignore[arg-type]
        update_session_auth_hash(request, user)  # type: ignore[arg-type]
        return account_reply(request)


class Factor(APIView):
    """One's own second factor."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(operation_id="beginFactor", request=None, responses={201: shape(FactorBegun)})
    def post(self, request: Request) -> Response:
        """Begin to set up an authenticator app."""
        return reply(second_factor.begin(cast(User, request.user)), 201)

    @extend_schema(
        operation_id="confirmFactor", request=shape(FactorCode, sent=True), responses=shape(FactorConfirmed)
    )
    def put(self, request: Request) -> Response:
        """Give its first code; from then on sign-in wants one."""
        codes = second_factor.confirm(
            cast(User, request.user), read(FactorCode, request).one_time_code, CLOCK.now()
        )
        return reply(FactorConfirmed(recovery_codes=codes))


class FactorRemoval(APIView):
    """One's own second factor, which is not wanted any more."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(
        operation_id="removeFactor", request=shape(PasswordGiven, sent=True), responses=shape(Account)
    )
    def post(self, request: Request) -> Response:
        """Remove one's own second factor."""
        check_password(request, read(PasswordGiven, request).password)
        second_factor.remove(cast(User, request.user))
        return account_reply(request)


class Sessions(APIView):
    """One's own sessions."""

    @extend_schema(operation_id="endSessions", request=None, responses={200: shape(Account)})
    def delete(self, request: Request) -> Response:
        """Sign out everywhere else."""
        sessions.end_others(request.user.pk, request.session.session_key)
        return account_reply(request)


class Tokens(APIView):
    """Tokens of one's own programs."""

    @extend_schema(
        operation_id="makeToken", request=shape(TokenAsked, sent=True), responses={201: shape(TokenMade)}
    )
    def post(self, request: Request) -> Response:
        """Make a token for a program."""
        asked = read(TokenAsked, request)
        check_scopes({asked.name: asked.scope})
        return reply(tokens.make_token(request.user, asked, CLOCK.now()), 201)


class OneToken(APIView):
    """One token of one's own."""

    @extend_schema(operation_id="revokeToken", request=None, responses={200: shape(Account)})
    def delete(self, request: Request, key: str) -> Response:
        """Revoke a token."""
        tokens.revoke_token(request.user, key)
        return account_reply(request)


def check_password(request: Request, given: str) -> None:
    """Raises WrongSignIn: whoever sits at an open page is not always the person."""
    if not request.user.check_password(given):
        raise WrongSignIn("That is not your password of now.", "Check it and try again.", field="password")


def account_reply(request: Request, status: int = 200) -> Response:
    """One's own account."""
    user = request.user
    held = roles_of(request)
    roles = tuple(people.role_view(role) for code, role in known_roles(held).items() if code in held)
    own = ApiToken.objects.filter(user=user.pk).order_by("-created")
    return reply(
        Account(
            scopes={role: said for role, scope in scopes_of(request).items() if (said := scope.words())},
            name=user.get_username(), full_name=user.first_name, mail=user.email, roles=roles,  # type: ignore[union-attr]
            sessions=sessions.of_user(user.pk, request.session.session_key),
            tokens=tuple(map(tokens.token_view, own)),
            through_provider=OutsideIdentity.objects.filter(user=user.pk).exists(),
            second_factor=second_factor.has_one(user),
            recovery_codes=RecoveryCode.objects.filter(user=user.pk).count(),
            passkeys=passkeys.of_user(user),
        ),
        status,
    )  # fmt: skip
