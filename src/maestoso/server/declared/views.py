"""Declared outages over HTTP: these translate, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.declared import services
from maestoso.server.declared.shapes import OutageDeclared, OutageView

CLOCK = SystemClock()


class Declare(APIView):
    """For monitors, and for people."""

    @extend_schema(
        operation_id="declareOutage", request=shape(OutageDeclared, sent=True),
        responses={201: shape(OutageView), 200: shape(OutageView)},
    )  # fmt: skip
    def post(self, request: Request) -> Response:
        """Say that a site is down. People are told, and the outage clock counts; nothing is started.

        200 where it stands already: then it is the same, said again.
        """
        sent, by = read(OutageDeclared, request), request.user.get_username()
        said, news = services.declare(sent, by=by, at=CLOCK.now())
        return reply(said, 201 if news else 200)


class Declared(APIView):
    """All that stand."""

    @extend_schema(operation_id="declaredOutages", responses=shape(OutageView)(many=True))
    def get(self, request: Request) -> Response:
        """What somebody declared and nobody withdrew."""
        return reply(services.views(seen_by(request)))


class OneDeclared(APIView):
    """One of them."""

    @extend_schema(operation_id="withdrawOutage", responses={200: shape(OutageView)})
    def delete(self, request: Request, pk: int) -> Response:
        """It is not so, or not any more."""
        by = request.user.get_username()
        return reply(services.withdraw(pk, by=by, at=CLOCK.now()))
