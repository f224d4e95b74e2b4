"""People over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.contrib.auth import login
from drf_spectacular.utils import extend_schema
from rest_framework.authentication import SessionAuthentication
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.core.errors import NotFound
from maestoso.core.people.roles import BY_CODE
from maestoso.engine.clock import SystemClock
from maestoso.server.access import people, second_factor
from maestoso.server.access.shapes import (
    Invitation,
    InvitationAccept,
    People,
    PersonInvite,
    PersonSave,
    PersonView,
    RoleSave,
    RoleView,
    Session,
)
from maestoso.server.access.views import session_view
from maestoso.server.audit.record import recorded
from maestoso.server.common.shapes import read, reply, shape

CLOCK = SystemClock()


class PeopleView(APIView):
    """Everybody."""

    @extend_schema(operation_id="people", responses=shape(People))
    def get(self, request: Request) -> Response:
        """Everybody with their roles, and what roles there are."""
        return reply(people.all_people())

    @extend_schema(
        operation_id="invitePerson",
        request=shape(PersonInvite, sent=True),
        responses={201: shape(Invitation)},
    )
    def post(self, request: Request) -> Response:
        """Invite somebody."""
        sent = read(PersonInvite, request)
        return reply(people.invite(sent, by=request.user.get_username(), at=CLOCK.now()), 201)


class OnePerson(APIView):
    """One person."""

    @extend_schema(
        operation_id="savePerson", request=shape(PersonSave, sent=True), responses=shape(PersonView)
    )
    def put(self, request: Request, name: str) -> Response:
        """Change somebody's name, mail, roles, or whether they can sign in."""
        sent = read(PersonSave, request)
        return reply(people.save_person(name, sent, by=request.user.get_username(), at=CLOCK.now()))


class NewLink(APIView):
    """A link with which somebody chooses a password."""

    @extend_schema(operation_id="inviteAgain", request=None, responses=shape(Invitation))
    def post(self, request: Request, name: str) -> Response:
        """Make a new link for somebody."""
        return reply(people.invite_again(name))


class FactorOfPerson(APIView):
    """The second factor of somebody who lost it."""

    @extend_schema(operation_id="removeFactorOf", request=None, responses={200: shape(PersonView)})
    def delete(self, request: Request, name: str) -> Response:
        """Remove somebody's second factor."""
        second_factor.remove(people.find_person(name))
        return reply(people.person_view(people.find_person(name)))


class OneRole(APIView):
    """What is said of a role."""

    @extend_schema(operation_id="saveRole", request=shape(RoleSave, sent=True), responses=shape(RoleView))
    def put(self, request: Request, code: str) -> Response:
        """Say whether holders of a role must have a second factor."""
        wanted = read(RoleSave, request).second_factor
        if code not in BY_CODE:
            raise NotFound(f"There is no role {code[:40]!r}.", f"Roles are: {', '.join(BY_CODE)}.")
        second_factor.set_rule(code, wanted)
        return reply(people.role_view(BY_CODE[code]))


class Invitations(APIView):
    """Where links lead."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(
        operation_id="acceptInvitation", request=shape(InvitationAccept, sent=True), responses=shape(Session)
    )
    def post(self, request: Request) -> Response:
        """Choose a password with a link, and sign in; with a second factor, sign in is still to come."""
        SessionAuthentication().enforce_csrf(request)
        user = people.accept(read(InvitationAccept, request))
        if not second_factor.has_one(user):
            with recorded():
                login(request, user)
            request.user = user
        return reply(session_view(request))
