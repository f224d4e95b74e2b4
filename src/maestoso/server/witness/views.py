"""The witness over HTTP: this translates, nothing else."""

from __future__ import annotations

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.reign.shapes import Standbys, WitnessChosen
from maestoso.server.reign.standbys import stand
from maestoso.server.witness import services


class WitnessView(APIView):
    """The third site that remembers who conducts."""

    @extend_schema(
        operation_id="chooseWitness", request=shape(WitnessChosen, sent=True), responses=shape(Standbys)
    )
    def put(self, request: Request) -> Response:
        """Make a site the witness; from now on nothing is conducted without its lease."""
        services.choose(read(WitnessChosen, request).site)
        return reply(stand())

    @extend_schema(operation_id="goWithoutWitness", responses={200: shape(Standbys)})
    def delete(self, request: Request) -> Response:
        """Go on without a witness: a standby takes over only when somebody has it do so."""
        services.go_without()
        return reply(stand())
