"""Workloads over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.http import HttpResponseBase
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import Number, if_match, read, reply, shape
from maestoso.server.estate import exports, picture, workloads
from maestoso.server.estate.models import SavedFilter
from maestoso.server.estate.shapes import (
    Changed,
    Found,
    SavedFilterView,
    Tagging,
    UseMap,
    WorkloadChange,
    WorkloadDetail,
    WorkloadMake,
)
from maestoso.server.jobs.views import PREFER, answer, makes

LONGEST_PAGE = 1000
FILTER = OpenApiParameter("filter", OpenApiTypes.STR, description="The filter language; empty finds all.")

CLOCK = SystemClock()
OFFSET = Number("offset", 0, 10**9, "How many are left out before the first.", otherwise=0)
LIMIT = Number("limit", 1, LONGEST_PAGE, "How many workloads; 200 where it is missing.", otherwise=200)


class WorkloadsView(APIView):
    """Workloads of all sites."""

    @extend_schema(
        operation_id="workloads",
        parameters=[
            FILTER,
            OpenApiParameter(
                "sort", OpenApiTypes.STR, description="A column; a minus before it turns it round."
            ),
            OFFSET,
            LIMIT,
        ],
        responses=shape(Found),
    )
    def get(self, request: Request) -> Response:
        """A stretch of what a filter finds."""
        found = workloads.search(
            request.query_params.get("filter", ""), request.query_params.get("sort", "name")
        )
        seen = seen_by(request)
        found = [row for row in found if seen.has("workload", row.name)]
        begin = OFFSET.of(request)
        rows = found[begin : begin + LIMIT.of(request)]
        return reply(picture.search_result(found, rows, seen))

    @extend_schema(
        operation_id="makeWorkload",
        request=shape(WorkloadMake, sent=True),
        responses={201: shape(WorkloadDetail)},
    )
    def post(self, request: Request) -> Response:
        """Write a new workload down."""
        sent = read(WorkloadMake, request)
        return reply(picture.detail(workloads.make_workload(sent.site, sent.workload)), 201)


class WorkloadView(APIView):
    """One workload."""

    @extend_schema(operation_id="workload", responses=shape(WorkloadDetail))
    def get(self, request: Request, name: str) -> Response:
        """Everything of it. Its revision is the ETag."""
        said = picture.detail(workloads.find_workload(name))
        return reply(said, headers={"ETag": f'"{said.revision}"'})

    @extend_schema(
        operation_id="changeWorkload",
        parameters=[OpenApiParameter("If-Match", OpenApiTypes.STR, OpenApiParameter.HEADER, required=True)],
        request=shape(WorkloadChange, sent=True),
        responses=shape(WorkloadDetail),
    )
    def put(self, request: Request, name: str) -> Response:
        """Change everything but its name."""
        sent = read(WorkloadChange, request)
        return reply(picture.detail(workloads.change_workload(name, sent.workload, if_match(request))))

    @extend_schema(operation_id="retireWorkload", responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Remove it from the estate; refused while something uses it."""
        workloads.retire_workload(name, by=request.user.get_username(), at=CLOCK.now())
        return Response(status=204)


class TagsView(APIView):
    """Tags of many workloads."""

    @extend_schema(operation_id="tagWorkloads", request=shape(Tagging, sent=True), responses=shape(Changed))
    def post(self, request: Request) -> Response:
        """Give and take tags."""
        sent = read(Tagging, request)
        names = list(sent.names)
        if sent.filter is not None:
            names += [row.name for row in workloads.search(sent.filter)]
        return reply(Changed(changed=workloads.tag(names, sent.add, list(sent.remove))))


class UsesView(APIView):
    """Dependencies."""

    @extend_schema(operation_id="uses", responses=shape(UseMap))
    def get(self, request: Request) -> Response:
        """Every use in the estate."""
        return reply(picture.use_map(seen_by(request)))


class SavedFiltersView(APIView):
    """Filters that the signed-in person named."""

    @extend_schema(operation_id="savedFilters", responses=shape(SavedFilterView)(many=True))
    def get(self, request: Request) -> Response:
        """All of them."""
        rows = SavedFilter.objects.filter(owner=request.user.get_username())
        return reply([SavedFilterView(name=row.name, text=row.text) for row in rows])

    @extend_schema(
        operation_id="saveFilter",
        request=shape(SavedFilterView, sent=True),
        responses={201: shape(SavedFilterView)},
    )
    def post(self, request: Request) -> Response:
        """Name a filter, or give a name another filter."""
        sent = read(SavedFilterView, request)
        workloads.save_filter(request.user.get_username(), sent.name, sent.text)
        return reply(sent, 201)


class SavedFilterDetailView(APIView):
    """One saved filter."""

    @extend_schema(operation_id="forgetFilter", responses={204: None})
    def delete(self, request: Request, name: str) -> Response:
        """Forget it."""
        workloads.forget_filter(request.user.get_username(), name)
        return Response(status=204)


class ExportView(APIView):
    """The estate as a file."""

    @extend_schema(
        operation_id="exportEstate",
        parameters=[
            FILTER,
            OpenApiParameter("as", OpenApiTypes.STR, required=True, enum=["csv", "json"]),
            PREFER,
        ],
        responses=makes(
            {(200, "text/csv"): OpenApiTypes.STR, (200, "application/json"): OpenApiTypes.OBJECT}
        ),
    )
    def get(self, request: Request) -> HttpResponseBase:
        """What a filter finds; as JSON with sites and links."""
        asked = request.query_params
        return answer(
            request,
            exports.begin_export(
                asked.get("as", "csv"), asked.get("filter", ""), by=request.user.get_username()
            ),
        )
