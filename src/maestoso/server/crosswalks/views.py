"""Crosswalks over HTTP: these translate, nothing else."""

from __future__ import annotations

from dataclasses import replace

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.errors import BadValue
from maestoso.core.landing.match import propose
from maestoso.core.landing.table_file import write_table
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.engine.clock import SystemClock
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import if_match, read, reply, shape
from maestoso.server.crosswalks import held, picture, services
from maestoso.server.crosswalks.shapes import (
    CrosswalkDetail,
    CrosswalkLine,
    CrosswalkSaved,
    HeldAsked,
    HeldView,
    LandingsAsked,
    LandingsView,
    Proposals,
    TableRead,
    TableText,
    Trial,
    Trials,
    TwinMade,
)
from maestoso.server.estate.services import find_site
from maestoso.server.estate.snapshot import estate
from maestoso.server.estate.workload_views import FILTER

CLOCK = SystemClock()
IF_MATCH = OpenApiParameter("If-Match", OpenApiTypes.STR, OpenApiParameter.HEADER, required=True)
CSV = {(200, "text/csv"): OpenApiTypes.BINARY}


class CrosswalksView(APIView):
    """All directions."""

    @extend_schema(operation_id="crosswalks", responses=shape(CrosswalkLine)(many=True))
    def get(self, request: Request) -> Response:
        """Every direction between two sites, with how its crosswalk stands."""
        return reply([one for one in picture.lines() if seen_by(request).owns(one.source, one.target)])

    @extend_schema(
        operation_id="makeCrosswalk",
        request=shape(Crosswalk, sent=True),
        responses={201: shape(CrosswalkSaved)},
    )
    def post(self, request: Request) -> Response:
        """Make the first crosswalk in its direction."""
        row = services.make_crosswalk(
            read(Crosswalk, request), by=request.user.get_username(), at=CLOCK.now()
        )
        return reply(CrosswalkSaved(revision=row.revision), 201, {"ETag": f'"{row.revision}"'})


class CrosswalkView(APIView):
    """One crosswalk."""

    @extend_schema(operation_id="crosswalk", responses=shape(CrosswalkDetail))
    def get(self, request: Request, source: str, target: str) -> Response:
        """The crosswalk and both its ends; an empty one with revision 0 where none is made yet."""
        said = picture.detail(source, target)
        return reply(said, headers={"ETag": f'"{said.revision}"'})

    @extend_schema(
        operation_id="saveCrosswalk",
        parameters=[IF_MATCH],
        request=shape(Crosswalk, sent=True),
        responses=shape(CrosswalkSaved),
    )
    def put(self, request: Request, source: str, target: str) -> Response:
        """Replace it; 412 where somebody else was quicker."""
        sent = read(Crosswalk, request)
        _same_way(sent, source, target)
        row = services.save_crosswalk(sent, if_match(request), by=request.user.get_username(), at=CLOCK.now())
        return reply(CrosswalkSaved(revision=row.revision), headers={"ETag": f'"{row.revision}"'})

    @extend_schema(operation_id="retireCrosswalk", responses={204: None})
    def delete(self, request: Request, source: str, target: str) -> Response:
        """Take it away; refused while a plan lands by it."""
        services.retire_crosswalk(source, target, by=request.user.get_username(), at=CLOCK.now())
        return Response(status=204)


class LandingsOfDraft(APIView):
    """Before and after."""

    @extend_schema(
        operation_id="landings", request=shape(LandingsAsked, sent=True), responses=shape(LandingsView)
    )
    def post(self, request: Request) -> Response:
        """The before-and-after table of a crosswalk that need not be saved, with everything wrong with it."""
        return reply(picture.landings(read(LandingsAsked, request), seen_by(request)))


class ProposalsView(APIView):
    """Auto-match."""

    @extend_schema(
        operation_id="proposeRows", request=shape(Crosswalk, sent=True), responses=shape(Proposals)
    )
    def post(self, request: Request) -> Response:
        """Rows that a crosswalk, saved or not, could have; nothing is saved."""
        return reply(
            Proposals(proposals=propose(services.checked(read(Crosswalk, request)), estate().ground))
        )


class TrialView(APIView):
    """Trying the address rules."""

    @extend_schema(operation_id="tryRules", request=shape(Trial, sent=True), responses=shape(Trials))
    def post(self, request: Request) -> Response:
        """What the rules of a crosswalk, saved or not, make of addresses."""
        sent = read(Trial, request)
        return reply(Trials(tried=picture.trial(sent.crosswalk, sent.addresses)))


class TwinView(APIView):
    """The reverse crosswalk."""

    @extend_schema(operation_id="makeTwin", request=None, responses={201: shape(TwinMade)})
    def post(self, request: Request, source: str, target: str) -> Response:
        """Make the reverse crosswalk, and say what of it could not be reversed."""
        made = services.make_twin(source, target, by=request.user.get_username(), at=CLOCK.now())
        return reply(TwinMade(revision=1, one_way=made.one_way), 201)


class TableView(APIView):
    """The address table as a file."""

    @extend_schema(operation_id="exportTable", responses=CSV)
    def get(self, request: Request, source: str, target: str) -> HttpResponse:
        """The saved table as CSV."""
        crosswalk = services.find_crosswalk(source, target).core()
        return _csv("".join(write_table(crosswalk.table)), f"table-{source}-{target}.csv")

    @extend_schema(operation_id="readTable", request=shape(TableText, sent=True), responses=shape(TableRead))
    def post(self, request: Request, source: str, target: str) -> Response:
        """Read a CSV file; nothing is saved."""
        entries, complaints = services.import_table(source, read(TableText, request).text.encode())
        return reply(TableRead(entries=entries, complaints=complaints))


class ExportView(APIView):
    """Before and after as a file."""

    @extend_schema(operation_id="exportLandings", parameters=[FILTER], responses=CSV)
    def get(self, request: Request, source: str, target: str) -> HttpResponse:
        """The before-and-after table of the saved crosswalk as CSV."""
        found = picture.everything(source, target, request.query_params.get("filter", ""))
        rows = tuple(row for row in found.rows if seen_by(request).has("workload", row.workload))
        return _csv("".join(picture.export(replace(found, rows=rows))), f"landings-{source}-{target}.csv")


class HeldLandingsView(APIView):
    """Landings that a site holds."""

    @extend_schema(operation_id="heldLandings", responses=shape(HeldView)(many=True))
    def get(self, request: Request, code: str) -> Response:
        """Those that it was asked to hold, and what is wrong with them."""
        return reply(picture.held(find_site(code)))

    @extend_schema(
        operation_id="holdAgain",
        request=shape(HeldAsked, sent=True),
        responses=shape(HeldView)(many=True),
    )
    def post(self, request: Request, code: str) -> Response:
        """Ask the site for some of them once more."""
        site = find_site(code)
        held.hold_again(site, read(HeldAsked, request).workloads)
        return reply(picture.held(site))


def _same_way(sent: Crosswalk, source: str, target: str) -> None:
    if (sent.source, sent.target) != (source, target):
        raise BadValue(
            f"The crosswalk goes {sent.source} to {sent.target}, the address {source} to {target}.",
            "Send it to its own address.",
            field="body.source",
        )


def _csv(text: str, name: str) -> HttpResponse:
    answer = HttpResponse(text, content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer
