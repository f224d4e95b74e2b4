"""People over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.contrib.auth import login
from drf_spectacular.utils import extend_schema
from rest_framework.authentication import SessionAuthentication
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.access import people, roles, second_factor
from maestoso.server.access.shapes import (
    Invitation,
    InvitationAccept,
    LinkWanted,
    OwnRoleSave,
    PasswordForgotten,
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
        made = people.invite(sent, by=request.user.get_username(), at=CLOCK.now())
        return reply(people.mailed(made), 201)


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

    @extend_schema(
        operation_id="inviteAgain", request=shape(LinkWanted, sent=True), responses=shape(Invitation)
    )
    def post(self, request: Request, name: str) -> Response:
        """Make a new link for somebody: mailed where that can be, else shown."""
        shown, made = read(LinkWanted, request).shown, people.invite_again(name)
        return reply(made if shown else people.mailed(made))


class FactorOfPerson(APIView):
    """The second factor of somebody who lost it."""

    @extend_schema(operation_id="removeFactorOf", request=None, responses={200: shape(PersonView)})
    def delete(self, request: Request, name: str) -> Response:
        """Remove somebody's second factor."""
        second_factor.forget_devices(people.find_person(name))
        return reply(people.person_view(people.find_person(name)))


class OneRole(APIView):
    """What is said of a role."""

    @extend_schema(operation_id="saveRole", request=shape(RoleSave, sent=True), responses=shape(RoleView))
    def put(self, request: Request, code: str) -> Response:
        """Say whether holders of a role must have a second factor."""
        wanted = read(RoleSave, request).second_factor
        role = roles.find_role(code)
        second_factor.set_rule(code, wanted)
        return reply(people.role_view(role))

    @extend_schema(operation_id="removeRole", responses={204: None})
    def delete(self, request: Request, code: str) -> Response:
        """Remove a role of the organisation's own; refused while somebody has it."""
        roles.remove_role(code)
        return Response(status=204)


class OwnRoles(APIView):
    """Roles of the organisation's own."""

    @extend_schema(
        operation_id="makeRole", request=shape(OwnRoleSave, sent=True), responses={201: shape(RoleView)}
    )
    def post(self, request: Request) -> Response:
        """Make a role of the permissions that there are."""
        return reply(people.role_view(roles.make_role(read(OwnRoleSave, request))), 201)


class RoleDefinition(APIView):
    """What a role of the organisation's own may."""

    @extend_schema(
        operation_id="changeRole", request=shape(OwnRoleSave, sent=True), responses=shape(RoleView)
    )
    def put(self, request: Request, code: str) -> Response:
        """Change its name or permissions, for all who have it, at once."""
        return reply(people.role_view(roles.change_role(code, read(OwnRoleSave, request))))


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


class Forgotten(APIView):
    """A password that somebody forgot."""

    throttle_classes = [ScopedRateThrottle]
    throttle_scope = "signin"

    @extend_schema(
        operation_id="forgetPassword", request=shape(PasswordForgotten, sent=True), responses={202: None}
    )
    def post(self, request: Request) -> Response:
        """Mail a link, if there is such an account with a mail address; the answer is the same if not."""
        SessionAuthentication().enforce_csrf(request)
        people.forgotten(read(PasswordForgotten, request).name)
        return Response(status=202)
