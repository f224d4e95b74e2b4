"""Known traps over HTTP: these translate, nothing else."""

from __future__ import annotations

from typing import cast, get_args

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.errors import BadValue
from maestoso.engine.clock import SystemClock
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.runs import traps
from maestoso.server.runs.shapes import About, TrapSave, TrapSolved, TrapView

CLOCK = SystemClock()
ABOUT = get_args(About)


class TrapsView(APIView):
    """Known traps."""

    @extend_schema(
        operation_id="traps",
        parameters=[
            OpenApiParameter("about", OpenApiTypes.STR, enum=ABOUT, description="Only of this; with name."),
            OpenApiParameter("name", OpenApiTypes.STR, description="Of a workload; code of a group or plan."),
        ],
        responses=shape(TrapView)(many=True),
    )
    def get(self, request: Request) -> Response:
        """All of one thing, also those that are solved; or the open ones of everything."""
        asked = request.query_params
        about = asked.get("about")
        if about is not None and about not in ABOUT:
            raise BadValue(f"about is {about[:40]!r}.", f"Give one of {', '.join(ABOUT)}.", field="about")
        found, seen = traps.traps_about(cast(About | None, about), asked.get("name", "")), seen_by(request)
        return reply([one for one in found if seen.has(one.about, one.name)])

    @extend_schema(
        operation_id="addTrap", request=shape(TrapSave, sent=True), responses={201: shape(TrapView)}
    )
    def post(self, request: Request) -> Response:
        """Write one down."""
        row = traps.add_trap(read(TrapSave, request), by=str(request.user.get_username()), at=CLOCK.now())
        return reply(traps.trap_view(row), 201)


class SolvedTrap(APIView):
    """Whether a trap is solved."""

    @extend_schema(operation_id="solveTrap", request=shape(TrapSolved, sent=True), responses=shape(TrapView))
    def put(self, request: Request, pk: int) -> Response:
        """It is."""
        run = read(TrapSolved, request).run
        return reply(
            traps.trap_view(traps.solve_trap(pk, run, by=str(request.user.get_username()), at=CLOCK.now()))
        )

    @extend_schema(operation_id="openTrap", request=None, responses={200: shape(TrapView)})
    def delete(self, request: Request, pk: int) -> Response:
        """It is not, after all."""
        return reply(traps.trap_view(traps.open_trap(pk)))
