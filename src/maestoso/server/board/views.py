"""The board and the site line over HTTP."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.board.readiness import readiness
from maestoso.server.board.shapes import Readiness, SiteLine
from maestoso.server.board.site_line import site_line
from maestoso.server.common.shapes import reply, shape

CLOCK = SystemClock()


class ReadinessView(APIView):
    """The readiness board."""

    @extend_schema(operation_id="readiness", responses=shape(Readiness))
    def get(self, request: Request) -> Response:
        """Every plan, can it run now, would it meet its objectives, when was that proved."""
        return reply(readiness(CLOCK.now()))


class SiteLineView(APIView):
    """The strip on every page."""

    @extend_schema(operation_id="siteLine", responses=shape(SiteLine))
    def get(self, request: Request) -> Response:
        """Sites, what runs where, which way protection flows, and runs under way."""
        return reply(site_line(CLOCK.now(), str(request.user.get_username())))
