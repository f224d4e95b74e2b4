"""Plans over HTTP: these translate, nothing else."""

from __future__ import annotations

import re
from typing import cast, get_args

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.errors import BadValue
from maestoso.core.planning.plan_file import SCHEMA
from maestoso.core.planning.suggest import Suggestion
from maestoso.core.planning.templates import TEMPLATES
from maestoso.engine.clock import SystemClock
from maestoso.server.common.shapes import Number, read, reply, shape
from maestoso.server.crosswalks.shapes import LandingsView
from maestoso.server.estate.models import Site
from maestoso.server.estate.workload_views import FILTER
from maestoso.server.plans import foresight, judgement, plan_file, run_book, services, traps
from maestoso.server.plans.models import PlanRow
from maestoso.server.plans.readiness import readiness
from maestoso.server.plans.shapes import (
    About,
    AssessmentView,
    Calibration,
    Draft,
    Helps,
    MendAsked,
    Mended,
    PlanDetail,
    PlanFileRead,
    PlanPoints,
    PlanSave,
    PlanText,
    Preflight,
    Readiness,
    RehearsalAsked,
    RehearsalView,
    RunOptions,
    Saved,
    SuggestAsked,
    Templates,
    TrapSave,
    TrapSolved,
    TrapView,
    VersionInfo,
    VersionView,
)

CLOCK = SystemClock()
ABOUT = get_args(About)
AGAINST = Number(
    "against", 0, 10**9, "The number of the version to compare with; the newest if absent.", otherwise=0
)
IF_MATCH = OpenApiParameter(
    "If-Match", OpenApiTypes.STR, OpenApiParameter.HEADER, required=True,
    description='The ETag of the version that this one is based on, such as "BOOK-3".',
)  # fmt: skip


class ReadinessView(APIView):
    """The readiness board."""

    @extend_schema(operation_id="readiness", responses=shape(Readiness))
    def get(self, request: Request) -> Response:
        """Every plan, can it run now, would it meet its objectives, when was that proved."""
        return reply(readiness(CLOCK.now()))


class PlansView(APIView):
    """All plans."""

    @extend_schema(operation_id="makePlan", request=shape(PlanSave, sent=True), responses={201: shape(Saved)})
    def post(self, request: Request) -> Response:
        """Make a plan with its first version."""
        sent = read(PlanSave, request)
        version = services.make_plan(
            sent.plan, author=_who(request), at=CLOCK.now(),
            summary=sent.summary or "First version",
        )  # fmt: skip
        return reply(Saved(version=version.number, summary=version.summary), 201)


class SuggestionsView(APIView):
    """Waves from what uses what."""

    @extend_schema(
        operation_id="suggestWaves", request=shape(SuggestAsked, sent=True), responses=shape(Suggestion)
    )
    def post(self, request: Request) -> Response:
        """Propose waves and dependencies with reasons; nothing is saved."""
        return reply(judgement.suggested(read(SuggestAsked, request)))


class TemplatesView(APIView):
    """What a plan can begin from."""

    @extend_schema(operation_id="planTemplates", responses=shape(Templates))
    def get(self, request: Request) -> Response:
        """Waves with rules and cues, without workloads."""
        return reply(Templates(templates=TEMPLATES))


class PlanFilesView(APIView):
    """Reading plan files."""

    @extend_schema(
        operation_id="readPlanFile", request=shape(PlanText, sent=True), responses=shape(PlanFileRead)
    )
    def post(self, request: Request) -> Response:
        """Read a plan file without saving it: problems by line and column, and the findings of its plan."""
        return reply(judgement.read_plan_file(read(PlanText, request).text, CLOCK.now()))


class PlanFileSchemaView(APIView):
    """The JSON Schema of plan files."""

    @extend_schema(operation_id="planFileSchema", responses={200: OpenApiTypes.OBJECT})
    def get(self, request: Request) -> Response:
        """For editors and pipelines."""
        return Response(SCHEMA)


class PlanFileView(APIView):
    """A plan as a file."""

    @extend_schema(operation_id="planFile", responses={(200, "application/yaml"): OpenApiTypes.OBJECT})
    def get(self, request: Request, code: str) -> HttpResponse:
        """The newest version as YAML."""
        text = plan_file.write(services.find_plan(code).version().core())
        answer = HttpResponse(text, content_type="application/yaml; charset=utf-8")
        answer["Content-Disposition"] = f'attachment; filename="{code}.plan.yaml"'
        return answer

    @extend_schema(
        operation_id="writePlanFile", request=shape(PlanSave, sent=True), responses=shape(PlanText)
    )
    def post(self, request: Request, code: str) -> Response:
        """A draft as YAML."""
        return reply(PlanText(text=plan_file.write(read(PlanSave, request).plan)))


class VersionOfPlan(APIView):
    """An older version."""

    @extend_schema(operation_id="planVersion", parameters=[AGAINST], responses=shape(VersionView))
    def get(self, request: Request, code: str, number: int) -> Response:
        """The plan as it was, and what changed since, or up to another version."""
        return reply(services.version_view(code, number, AGAINST.of(request) or None))


class PlanView(APIView):
    """One plan."""

    @extend_schema(operation_id="plan", responses=shape(PlanDetail))
    def get(self, request: Request, code: str) -> Response:
        """The newest version; its ETag is what a save must be based on."""
        row = services.find_plan(code)
        return reply(_detail(row), headers={"ETag": f'"{row.code}-{row.current}"'})

    @extend_schema(
        operation_id="savePlan",
        parameters=[IF_MATCH],
        request=shape(PlanSave, sent=True),
        responses={201: shape(Saved)},
    )
    def put(self, request: Request, code: str) -> Response:
        """Save a new version; 412 says what somebody else changed in between."""
        sent = read(PlanSave, request)
        version = services.save_plan(
            code, sent.plan, based_on=_based_on(request, code), author=_who(request),
            at=CLOCK.now(), summary=sent.summary,
        )  # fmt: skip
        headers = {"ETag": f'"{code}-{version.number}"'}
        return reply(Saved(version=version.number, summary=version.summary), 201, headers)

    @extend_schema(operation_id="retirePlan", responses={204: None})
    def delete(self, request: Request, code: str) -> Response:
        """Forget it with its versions; refused while a run of it is under way. Runs keep what they ran."""
        services.retire_plan(code, by=_who(request), at=CLOCK.now())
        return Response(status=204)


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

    @extend_schema(operation_id="runBookPdf", responses={(200, "application/pdf"): OpenApiTypes.BINARY})
    def get(self, request: Request, code: str) -> HttpResponse:
        """The newest version to keep where it can be read when everything is down."""
        answer = HttpResponse(run_book.pdf(code, CLOCK.now()), content_type="application/pdf")
        answer["Content-Disposition"] = f'attachment; filename="{code}.run-book.pdf"'
        return answer


class HelpsOfDraft(APIView):
    """What would help most."""

    @extend_schema(operation_id="whatHelps", request=shape(Draft, sent=True), responses=shape(Helps))
    def post(self, request: Request, code: str) -> Response:
        """Changes that would save time, each worked out."""
        return reply(foresight.what_helps(code, read(Draft, request), CLOCK.now()))


class RehearsalOfDraft(APIView):
    """A plan played in virtual time."""

    @extend_schema(
        operation_id="rehearse", request=shape(RehearsalAsked, sent=True), responses=shape(RehearsalView)
    )
    def post(self, request: Request, code: str) -> Response:
        """Play a draft through the engine and a practice world, with a fault of choice."""
        return reply(foresight.rehearse(code, read(RehearsalAsked, request), CLOCK.now()))


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


class TrapsView(APIView):
    """Known traps."""

    @extend_schema(
        operation_id="traps",
        parameters=[
            OpenApiParameter("about", OpenApiTypes.STR, enum=ABOUT, description="Only of this; with name."),
            OpenApiParameter("name", OpenApiTypes.STR, description="Of a workload; code of a group or plan."),
        ],
        responses=shape(TrapView)(many=True),
    )
    def get(self, request: Request) -> Response:
        """All of one thing, also those that are solved; or the open ones of everything."""
        asked = request.query_params
        about = asked.get("about")
        if about is not None and about not in ABOUT:
            raise BadValue(f"about is {about[:40]!r}.", f"Give one of {', '.join(ABOUT)}.", field="about")
        return reply(traps.traps_about(cast(About | None, about), asked.get("name", "")))

    @extend_schema(
        operation_id="addTrap", request=shape(TrapSave, sent=True), responses={201: shape(TrapView)}
    )
    def post(self, request: Request) -> Response:
        """Write one down."""
        row = traps.add_trap(read(TrapSave, request), by=_who(request), at=CLOCK.now())
        return reply(traps.trap_view(row), 201)


class SolvedTrap(APIView):
    """Whether a trap is solved."""

    @extend_schema(operation_id="solveTrap", request=shape(TrapSolved, sent=True), responses=shape(TrapView))
    def put(self, request: Request, pk: int) -> Response:
        """It is."""
        run = read(TrapSolved, request).run
        return reply(traps.trap_view(traps.solve_trap(pk, run, by=_who(request), at=CLOCK.now())))

    @extend_schema(operation_id="openTrap", request=None, responses={200: shape(TrapView)})
    def delete(self, request: Request, pk: int) -> Response:
        """It is not, after all."""
        return reply(traps.trap_view(traps.open_trap(pk)))


class PreflightView(APIView):
    """What must hold before a test may start."""

    @extend_schema(operation_id="preflight", request=shape(RunOptions, sent=True), responses=shape(Preflight))
    def post(self, request: Request, code: str) -> Response:
        """Judge a test with these choices, without starting it."""
        return reply(judgement.preflight(services.find_plan(code), read(RunOptions, request), CLOCK.now()))


def _detail(row: PlanRow) -> PlanDetail:
    plan = row.version().core()
    names = dict(Site.objects.values_list("code", "name"))
    return PlanDetail(
        plan=plan,
        version=row.current,
        source_name=names.get(plan.source, plan.source),
        target_name=names.get(plan.target, plan.target),
        versions=tuple(
            VersionInfo(number=v.number, summary=v.summary, author=v.author, saved_at=v.saved_at)
            for v in row.versions.order_by("-number")
        ),
    )


def _based_on(request: Request, code: str) -> int:
    given = request.headers.get("If-Match", "")
    match = re.fullmatch(rf'"?{re.escape(code)}-(\d{{1,9}})"?', given)
    if match is None:
        raise BadValue(
            f"If-Match is {given!r}, which is no version of {code}.",
            f'Send the ETag of the version your draft began from, such as "{code}-1".',
            field="If-Match",
        )
    return int(match.group(1))


def _who(request: Request) -> str:
    return str(request.user.get_username())
