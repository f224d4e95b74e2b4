"""Backups over HTTP: this translates, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.backups import services
from maestoso.server.backups.shapes import Backups
from maestoso.server.common.shapes import reply, shape

CLOCK = SystemClock()


class BackupList(APIView):
    """Backups of this installation."""

    @extend_schema(operation_id="backups", responses=shape(Backups))
    def get(self, request: Request) -> Response:
        """The latest, how they are made, and what is wrong with that."""
        return reply(services.shown(CLOCK.now()))

    @extend_schema(operation_id="wantBackup", request=None, responses={202: shape(Backups)})
    def post(self, request: Request) -> Response:
        """Have one made now, where and as those by the clock are; the list says what became of it."""
        services.want(request.user.get_username(), CLOCK.now())
        return reply(services.shown(CLOCK.now()), 202)
