"""Standbys over HTTP: this translates, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.server.common.shapes import reply, shape
from maestoso.server.reign import standbys
from maestoso.server.reign.shapes import Standbys


class StandbyList(APIView):
    """Standbys of this installation."""

    @extend_schema(operation_id="standbys", responses=shape(Standbys))
    def get(self, request: Request) -> Response:
        """Who follows at this moment, and whether anything is missing there."""
        return reply(Standbys(expected=standbys.are_expected(), lines=standbys.lines()))
