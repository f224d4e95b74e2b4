"""Zones over HTTP: these translate, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.names import services
from maestoso.server.names.shapes import ZoneSave, ZoneTried, ZoneView

CLOCK = SystemClock()


class Zones(APIView):
    """All zones."""

    @extend_schema(operation_id="zones", responses=shape(ZoneView)(many=True))
    def get(self, request: Request) -> Response:
        """All of them, with the names that plans change and what those lead to now."""
        return reply(services.everything())


class OneZone(APIView):
    """One zone."""

    @extend_schema(operation_id="saveZone", request=shape(ZoneSave, sent=True), responses=shape(ZoneView))
    def put(self, request: Request, zone: str) -> Response:
        """Keep its servers and its key."""
        author = request.user.get_username()
        return reply(services.save(zone, read(ZoneSave, request), author=author, clock=CLOCK))

    @extend_schema(operation_id="removeZone", responses={204: None})
    def delete(self, request: Request, zone: str) -> Response:
        """Forget it and its key; refused while a plan changes names of it."""
        services.remove(zone)
        return Response(status=204)


class ZoneTrial(APIView):
    """Whether its servers answer, and take changes."""

    @extend_schema(operation_id="tryZone", request=None, responses=shape(ZoneTried))
    def post(self, request: Request, zone: str) -> Response:
        """Ask every server, and the primary for a change of nothing; and read its names anew."""
        return reply(services.trial(zone, CLOCK))
