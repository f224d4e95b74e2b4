"""What plans would do, and the start of runs, over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.http import HttpResponse, HttpResponseBase
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.people.roles import to_start
from maestoso.engine.clock import SystemClock
from maestoso.server.access.may import require
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.crosswalks.shapes import LandingsView
from maestoso.server.estate.workload_views import FILTER
from maestoso.server.jobs.views import PREFER, answer, makes
from maestoso.server.plans import services
from maestoso.server.plans.shapes import (
    PlanText,
)
from maestoso.server.readiness import foresight, jobs, judgement, run_book
from maestoso.server.readiness.shapes import (
    AssessmentView,
    Calibration,
    Draft,
    Helps,
    MendAsked,
    Mended,
    PlanFileRead,
    PlanPoints,
    Preflight,
    RehearsalAsked,
    RehearsalView,
    RunOptions,
    StartRun,
)
from maestoso.server.readiness.starts import start_run
from maestoso.server.runs import views as runs_views
from maestoso.server.runs.picture import line
from maestoso.server.runs.shapes import RunLine
from maestoso.server.runs.views import key_header

CLOCK = SystemClock()


class PlanFilesView(APIView):
    """Reading plan files."""

    @extend_schema(
        operation_id="readPlanFile", request=shape(PlanText, sent=True), responses=shape(PlanFileRead)
    )
    def post(self, request: Request) -> Response:
        """Read a plan file without saving it: problems by line and column, and the findings of its plan."""
        return reply(judgement.read_plan_file(read(PlanText, request).text, CLOCK.now()))


class AssessmentOfDraft(APIView):
    """Judging what is not saved."""

    @extend_schema(
        operation_id="assessDraft", request=shape(Draft, sent=True), responses=shape(AssessmentView)
    )
    def post(self, request: Request, code: str) -> Response:
        """Findings, forecast and score of a draft."""
        return reply(judgement.assess_draft(code, read(Draft, request), CLOCK.now()))


class RunBook(APIView):
    """The run book as a page."""

    @extend_schema(operation_id="runBook", responses={(200, "text/html"): OpenApiTypes.STR})
    def get(self, request: Request, code: str) -> HttpResponse:
        """The newest version to print, complete in itself."""
        return HttpResponse(run_book.page(code, CLOCK.now()), content_type="text/html; charset=utf-8")


class RunBookPdf(APIView):
    """The run book as PDF."""

    @extend_schema(
        operation_id="runBookPdf",
        parameters=[PREFER],
        responses=makes({(200, "application/pdf"): OpenApiTypes.BINARY}),
    )
    def get(self, request: Request, code: str) -> HttpResponseBase:
        """The newest version to keep where it can be read when everything is down."""
        return answer(request, jobs.begin_run_book(code, by=_who(request)))


class HelpsOfDraft(APIView):
    """What would help most."""

    @extend_schema(
        operation_id="whatHelps",
        parameters=[PREFER],
        request=shape(Draft, sent=True),
        responses=makes(shape(Helps)),
    )
    def post(self, request: Request, code: str) -> HttpResponseBase:
        """Changes that would save time, each worked out."""
        return answer(request, jobs.begin_helps(code, read(Draft, request), by=_who(request)))


class RehearsalOfDraft(APIView):
    """A plan played in virtual time."""

    @extend_schema(
        operation_id="rehearse",
        parameters=[PREFER],
        request=shape(RehearsalAsked, sent=True),
        responses=makes(shape(RehearsalView)),
    )
    def post(self, request: Request, code: str) -> HttpResponseBase:
        """Play a draft through the engine and a practice world, with a fault of choice."""
        return answer(request, jobs.begin_rehearsal(code, read(RehearsalAsked, request), by=_who(request)))


class CalibrationOfPlan(APIView):
    """How good the forecasts were."""

    @extend_schema(operation_id="calibration", responses=shape(Calibration))
    def get(self, request: Request, code: str) -> Response:
        """The newest runs against the forecasts they began with."""
        return reply(foresight.calibration(code))


class MendOfDraft(APIView):
    """One press that mends a finding."""

    @extend_schema(operation_id="mendDraft", request=shape(MendAsked, sent=True), responses=shape(Mended))
    def post(self, request: Request, code: str) -> Response:
        """The draft with one finding mended; nothing is saved."""
        return reply(judgement.mended(code, read(MendAsked, request), CLOCK.now()))


class PointsView(APIView):
    """Recovery points of a plan."""

    @extend_schema(operation_id="planPoints", responses=shape(PlanPoints))
    def get(self, request: Request, code: str) -> Response:
        """Points of every group in the plan, oldest first."""
        return reply(judgement.plan_points(code, CLOCK.now()))


class PlanLandingsView(APIView):
    """Before and after, for a plan."""

    @extend_schema(operation_id="planLandings", parameters=[FILTER], responses=shape(LandingsView))
    def get(self, request: Request, code: str) -> Response:
        """Every adapter of every member of the newest version, live and in a test."""
        return reply(judgement.plan_landings(code, request.query_params.get("filter", ""), CLOCK.now()))


class PreflightView(APIView):
    """What must hold before a test may start."""

    @extend_schema(operation_id="preflight", request=shape(RunOptions, sent=True), responses=shape(Preflight))
    def post(self, request: Request, code: str) -> Response:
        """Judge a test with these choices, without starting it."""
        return reply(judgement.preflight(services.find_plan(code), read(RunOptions, request), CLOCK.now()))


class RunsView(runs_views.RunsView):
    """All runs, and the start of another one."""

    @extend_schema(
        operation_id="startRun",
        parameters=[key_header(required=True)],
        request=shape(StartRun, sent=True),
        responses={201: shape(RunLine)},
    )
    def post(self, request: Request) -> Response:
        """Start a run."""
        sent = read(StartRun, request)
        run = start_run(
            sent, by=_who(request), at=CLOCK.now(),
            key=request.headers.get("Idempotency-Key", ""),
            allow=lambda kind: require(request, to_start(kind), "plan", sent.plan),
        )  # fmt: skip
        return reply(line(run), 201)


def _who(request: Request) -> str:
    return str(request.user.get_username())
