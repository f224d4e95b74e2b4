"""Groups over HTTP: these translate, nothing else."""

from __future__ import annotations

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.replication.cost import PolicyCost
from maestoso.engine.clock import SystemClock
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import Number, if_match, read, reply, shape
from maestoso.server.estate.workloads import search
from maestoso.server.protection import picture, services
from maestoso.server.protection.shapes import (
    GroupDetail,
    GroupSave,
    Joining,
    KeySave,
    PauseCopying,
    Pin,
    Protection,
)

CLOCK = SystemClock()


LIMIT = Number("limit", 1, 1000, "How many groups; 100 where it is missing.", otherwise=100)


class ProtectionView(APIView):
    """All groups."""

    @extend_schema(
        operation_id="protection",
        parameters=[
            OpenApiParameter("find", OpenApiTypes.STR, description="Only groups whose name holds this."),
            LIMIT,
        ],
        responses=shape(Protection),
    )
    def get(self, request: Request) -> Response:
        """Groups with their health, links with their use, and what is not covered."""
        find, most = request.query_params.get("find", ""), LIMIT.of(request)
        return reply(picture.overview(CLOCK.now(), find, most, seen_by(request)))

    @extend_schema(
        operation_id="makeGroup", request=shape(GroupSave, sent=True), responses={201: shape(GroupDetail)}
    )
    def post(self, request: Request) -> Response:
        """Protect workloads together; the site is told at once, or when it is back."""
        sent = read(GroupSave, request)
        row = services.make_group(sent.group, sent.key)
        services.send_group_if_there(row, by=_who(request))
        return reply(picture.detail(row.code, CLOCK.now()), 201)


class GroupView(APIView):
    """One group."""

    @extend_schema(operation_id="group", responses=shape(GroupDetail))
    def get(self, request: Request, code: str) -> Response:
        """How it stands, with its points. Its revision is the ETag."""
        said = picture.detail(code, CLOCK.now())
        return reply(said, headers={"ETag": f'"{said.revision}"'})

    @extend_schema(
        operation_id="changeGroup",
        parameters=[OpenApiParameter("If-Match", OpenApiTypes.STR, OpenApiParameter.HEADER, required=True)],
        request=shape(GroupSave, sent=True),
        responses=shape(GroupDetail),
    )
    def put(self, request: Request, code: str) -> Response:
        """Change name, policy, members or rule."""
        sent = read(GroupSave, request)
        row = services.change_group(code, sent.group, if_match(request), sent.key)
        services.send_group_if_there(row, by=_who(request))
        return reply(picture.detail(code, CLOCK.now()))

    @extend_schema(operation_id="endProtection", responses={204: None})
    def delete(self, request: Request, code: str) -> Response:
        """Stop copying it and give its points up."""
        services.end_protection(code, by=_who(request), at=CLOCK.now())
        return Response(status=204)


class MembersView(APIView):
    """Members of a group."""

    @extend_schema(operation_id="joinGroup", request=shape(Joining, sent=True), responses=shape(GroupDetail))
    def post(self, request: Request, code: str) -> Response:
        """Let more workloads be members."""
        sent = read(Joining, request)
        more = search(sent.filter) if sent.filter is not None else []
        row = services.add_members(code, [*sent.names, *(row.name for row in more)])
        services.send_group_if_there(row, by=_who(request))
        return reply(picture.detail(code, CLOCK.now()))


class PauseView(APIView):
    """Pausing a group."""

    @extend_schema(
        operation_id="pauseGroup", request=shape(PauseCopying, sent=True), responses=shape(GroupDetail)
    )
    def post(self, request: Request, code: str) -> Response:
        """Pause copying for a reason, or go on."""
        services.pause(code, read(PauseCopying, request).because, by=_who(request))
        return reply(picture.detail(code, CLOCK.now()))


class PinView(APIView):
    """Pinning a point."""

    @extend_schema(operation_id="pinPoint", request=shape(Pin, sent=True), responses=shape(GroupDetail))
    def put(self, request: Request, code: str, point: str) -> Response:
        """Name a point so that it stays, or let it go."""
        services.pin(code, point, read(Pin, request).label, by=_who(request))
        return reply(picture.detail(code, CLOCK.now()))


class KeyView(APIView):
    """The key of a group."""

    @extend_schema(operation_id="storeKey", request=shape(KeySave, sent=True), responses={204: None})
    def put(self, request: Request, code: str) -> Response:
        """Store it; there is no way to read it."""
        services.store_key(code, read(KeySave, request).key)
        return Response(status=204)


class CostView(APIView):
    """What a policy costs."""

    @extend_schema(
        operation_id="policyCost", request=shape(GroupSave, sent=True), responses=shape(PolicyCost)
    )
    def post(self, request: Request) -> Response:
        """Bandwidth, space and points of a group as it is being edited; nothing is saved."""
        return reply(picture.cost(read(GroupSave, request).group, CLOCK.now()))


def _who(request: Request) -> str:
    return str(request.user.get_username())
