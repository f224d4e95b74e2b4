"""Standbys over HTTP: this translates, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.reign import following, standbys
from maestoso.server.reign.shapes import Standbys, Takeover, TakeoverAsked


class StandbyList(APIView):
    """Standbys of this installation."""

    @extend_schema(operation_id="standbys", responses=shape(Standbys))
    def get(self, request: Request) -> Response:
        """Who follows at this moment, and whether anything is missing there."""
        return reply(standbys.stand())


class TakeoverView(APIView):
    """A standby, about itself."""

    @extend_schema(operation_id="takeover", responses=shape(Takeover))
    def get(self, request: Request) -> Response:
        """How it follows, and what a takeover would mean."""
        return reply(following.takeover())

    @extend_schema(
        operation_id="takeOver", request=shape(TakeoverAsked, sent=True), responses={202: shape(Takeover)}
    )
    def post(self, request: Request) -> Response:
        """Have it take over from its primary, which cannot be taken back."""
        following.take_over(read(TakeoverAsked, request).words, request.user.get_username())
        return reply(following.takeover(), 202)
