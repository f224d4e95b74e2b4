"""Messages over HTTP: these translate, nothing else."""

from __future__ import annotations

from typing import cast

from django.contrib.auth.models import User
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.messages import events, services
from maestoso.server.messages.notice import note_seen
from maestoso.server.messages.shapes import (
    ChannelTried,
    EscalationSave,
    EventPage,
    MessagePreference,
    Messages,
    MessageView,
    MyMessages,
    WebhookMade,
    WebhookSave,
    WebhookView,
)

CLOCK = SystemClock()


class MessageList(APIView):
    """Channels, and what went where."""

    @extend_schema(operation_id="messages", responses=shape(Messages))
    def get(self, request: Request) -> Response:
        """Mail, webhooks, and the latest messages."""
        return reply(services.shown())


class MessageAgain(APIView):
    """A message once more."""

    @extend_schema(operation_id="sendAgain", request=None, responses={202: shape(MessageView)})
    def post(self, request: Request, uid: str) -> Response:
        """Try it now."""
        return reply(services.send_again(uid, CLOCK), 202)


class EscalationView(APIView):
    """Who is told in turn."""

    @extend_schema(
        operation_id="saveEscalation", request=shape(EscalationSave, sent=True), responses=shape(Messages)
    )
    def put(self, request: Request) -> Response:
        """Change it."""
        services.set_escalation(read(EscalationSave, request))
        return reply(services.shown())


class RunSeen(APIView):
    """Somebody looks at what a run needs."""

    @extend_schema(operation_id="seeRun", request=None, responses={204: None})
    def post(self, request: Request, pk: int) -> Response:
        """Nobody else is told of it in their place."""
        note_seen(pk, request.user.get_username(), CLOCK.now())
        return Response(status=204)


class MailTry(APIView):
    """A mail to whoever asks."""

    @extend_schema(operation_id="tryMail", request=None, responses={200: shape(ChannelTried)})
    def post(self, request: Request) -> Response:
        """Send it now, and say what the server said."""
        return reply(services.try_mail(cast(User, request.user), CLOCK))


class WebhookList(APIView):
    """Programs that are told."""

    @extend_schema(
        operation_id="makeWebhook", request=shape(WebhookSave, sent=True), responses={201: shape(WebhookMade)}
    )
    def post(self, request: Request) -> Response:
        """One more; the secret is shown this once."""
        return reply(services.make_webhook(read(WebhookSave, request)), 201)


class OneWebhook(APIView):
    """One of them."""

    @extend_schema(
        operation_id="changeWebhook", request=shape(WebhookSave, sent=True), responses=shape(WebhookView)
    )
    def put(self, request: Request, pk: int) -> Response:
        """Where to, of what, and how."""
        return reply(services.change_webhook(pk, read(WebhookSave, request)))

    @extend_schema(operation_id="removeWebhook", request=None, responses={204: None})
    def delete(self, request: Request, pk: int) -> Response:
        """It is told nothing any more."""
        services.remove_webhook(pk)
        return Response(status=204)


class WebhookTry(APIView):
    """A message to try it."""

    @extend_schema(operation_id="tryWebhook", request=None, responses={200: shape(ChannelTried)})
    def post(self, request: Request, pk: int) -> Response:
        """Send it now, and say what it answered."""
        return reply(services.try_webhook(pk, CLOCK))


class EventFeed(APIView):
    """Everything that happens, for programs that follow."""

    @extend_schema(
        operation_id="events",
        parameters=[
            OpenApiParameter(
                "after", OpenApiTypes.STR,
                description="The cursor of the answer before; without it, follow from now on.",
            ),
            OpenApiParameter(
                "wait_s", OpenApiTypes.INT, description="Seconds to wait for the first event, up to 20."
            ),
        ],
        responses=shape(EventPage),
    )  # fmt: skip
    def get(self, request: Request) -> Response:
        """What came after a cursor, at most 500 events, as far as whoever asks may see them."""
        return reply(events.page(request))


class MyMessageView(APIView):
    """What one wants to be told."""

    @extend_schema(operation_id="myMessages", responses=shape(MyMessages))
    def get(self, request: Request) -> Response:
        """One's own preference."""
        return reply(services.mine(cast(User, request.user)))

    @extend_schema(
        operation_id="chooseMessages",
        request=shape(MessagePreference, sent=True),
        responses=shape(MyMessages),
    )
    def put(self, request: Request) -> Response:
        """Change it."""
        user = cast(User, request.user)
        services.choose(user, read(MessagePreference, request))
        return reply(services.mine(user))
