"""The provider of identities over HTTP: looked after by administrators, and used by whoever signs in."""

from __future__ import annotations

from django.contrib.auth import login
from drf_spectacular.utils import extend_schema
from rest_framework.authentication import SessionAuthentication
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.access import identity_provider
from maestoso.server.access.shapes import (
    ProviderAnswer,
    ProviderAsked,
    ProviderFound,
    ProviderSave,
    ProviderSetting,
    Session,
)
from maestoso.server.access.views import session_view
from maestoso.server.audit.record import recorded
from maestoso.server.common.shapes import read, reply, shape

CLOCK = SystemClock()


class Provider(APIView):
    """The provider that people may sign in through."""

    @extend_schema(operation_id="identityProvider", responses=shape(ProviderSetting))
    def get(self, request: Request) -> Response:
        """The provider, where there is one."""
        return _setting()

    @extend_schema(
        operation_id="saveIdentityProvider", request=shape(ProviderSave, sent=True),
        responses=shape(ProviderSetting),
    )  # fmt: skip
    def put(self, request: Request) -> Response:
        """Set it, or change it; without a secret, the one of now stays."""
        identity_provider.save_provider(read(ProviderSave, request))
        return _setting()

    @extend_schema(operation_id="removeIdentityProvider", responses={204: None})
    def delete(self, request: Request) -> Response:
        """Remove it; refused while accounts sign in through it."""
        identity_provider.remove_provider()
        return Response(status=204)


class TryProvider(APIView):
    """Whether the provider answers."""

    @extend_schema(operation_id="tryIdentityProvider", request=None, responses=shape(ProviderFound))
    def post(self, request: Request) -> Response:
        """Ask the provider what it says of itself."""
        return reply(identity_provider.try_provider())


class AddressOfProvider(APIView):
    """Where signing in through the provider begins."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(operation_id="beginSignInThrough", request=None, responses=shape(ProviderAsked))
    def post(self, request: Request) -> Response:
        """The address at the provider where to sign in; it sends the browser back with an answer."""
        SessionAuthentication().enforce_csrf(request)
        return reply(ProviderAsked(address=identity_provider.begin(request)))


class SignInThrough(APIView):
    """Signing in through the provider; an answer to no question is refused before anybody is asked."""

    @extend_schema(
        operation_id="signInThrough", request=shape(ProviderAnswer, sent=True), responses=shape(Session)
    )
    def post(self, request: Request) -> Response:
        """Sign in with the answer that the provider sent the browser back with."""
        SessionAuthentication().enforce_csrf(request)
        sent = read(ProviderAnswer, request)
        said = identity_provider.claims_of(request, sent.authorization_code, sent.state)
        with recorded():
            user = identity_provider.account_for(said, CLOCK.now())
            login(request, user, backend="django.contrib.auth.backends.ModelBackend")
        request.user = user
        return reply(session_view(request))


def _setting() -> Response:
    return reply(ProviderSetting(provider=identity_provider.provider_view()))
