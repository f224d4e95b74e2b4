"""The practice lab over HTTP: these translate, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.practice_lab import services
from maestoso.server.practice_lab.shapes import Break, FaultScriptSent, Lab


class LabView(APIView):
    """All practice sites."""

    @extend_schema(operation_id="lab", responses=shape(Lab))
    def get(self, request: Request) -> Response:
        """What can be broken, and what is."""
        return reply(services.lab())

    @extend_schema(operation_id="breakOne", request=shape(Break, sent=True), responses=shape(Lab))
    def post(self, request: Request) -> Response:
        """Break one thing."""
        return reply(services.break_one(read(Break, request), by=request.user.get_username()))

    @extend_schema(operation_id="allRight", responses={200: shape(Lab)})
    def delete(self, request: Request) -> Response:
        """Put all right again."""
        return reply(services.all_right())


class FaultScriptView(APIView):
    """Drills that can be repeated."""

    @extend_schema(
        operation_id="runFaultScript", request=shape(FaultScriptSent, sent=True), responses=shape(Lab)
    )
    def post(self, request: Request) -> Response:
        """Break everything that a fault script names."""
        return reply(
            services.run_fault_script(read(FaultScriptSent, request).text, by=request.user.get_username())
        )
