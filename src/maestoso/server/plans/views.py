"""Plans over HTTP: these translate, nothing else."""

from __future__ import annotations

import re

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
from maestoso.server.estate.models import Site
from maestoso.server.plans import plan_file, services
from maestoso.server.plans.models import PlanRow
from maestoso.server.plans.shapes import (
    PlanDetail,
    PlanSave,
    PlanText,
    Saved,
    SuggestAsked,
    Templates,
    VersionInfo,
    VersionView,
)

CLOCK = SystemClock()
AGAINST = Number(
    "against", 0, 10**9, "The number of the version to compare with; the newest if absent.", otherwise=0
)
IF_MATCH = OpenApiParameter(
    "If-Match", OpenApiTypes.STR, OpenApiParameter.HEADER, required=True,
    description='The ETag of the version that this one is based on, such as "BOOK-3".',
)  # fmt: skip


class MakePlan(APIView):
    """Making a plan; the list of all is the board's, which knows how they stand."""

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
        return reply(services.suggested(read(SuggestAsked, request)))


class TemplatesView(APIView):
    """What a plan can begin from."""

    @extend_schema(operation_id="planTemplates", responses=shape(Templates))
    def get(self, request: Request) -> Response:
        """Waves with rules and cues, without workloads."""
        return reply(Templates(templates=TEMPLATES))


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
    match = re.fullmatch(rf'(?:W/)?"?{re.escape(code)}-(\d{{1,9}})"?', given)
    if match is None:
        raise BadValue(
            f"If-Match is {given!r}, which is no version of {code}.",
            f'Send the ETag of the version your draft began from, such as "{code}-1".',
            field="If-Match",
        )
    return int(match.group(1))


def _who(request: Request) -> str:
    return str(request.user.get_username())
