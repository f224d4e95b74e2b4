"""The audit trail over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.http import HttpResponseBase, StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.server.audit import trail
from maestoso.server.common.paging import CURSOR
from maestoso.server.common.shapes import reply, shape
from maestoso.server.common.streams import in_threads

FILTERS = [
    OpenApiParameter("by", OpenApiTypes.STR, description="Only what this person did."),
    OpenApiParameter("since", OpenApiTypes.DATE, description="On this day (UTC) or later."),
    OpenApiParameter(
        "kind", OpenApiTypes.STR, enum=sorted(trail.KINDS), description="Only entries about this."
    ),
    OpenApiParameter("find", OpenApiTypes.STR, description="Words of the address or of what was done."),
]


class AuditView(APIView):
    """What people changed."""

    @extend_schema(
        operation_id="auditTrail",
        parameters=[
            *FILTERS,
            CURSOR,
        ],
        responses=shape(trail.AuditPage),
    )
    def get(self, request: Request) -> Response:
        """Newest first, a hundred at a time, and whether the trail is as it was written."""
        return reply(trail.page(request))


class AuditFile(APIView):
    """The trail as a file."""

    @extend_schema(
        operation_id="auditFile", parameters=FILTERS, responses={(200, "application/jsonl"): OpenApiTypes.STR}
    )
    def get(self, request: Request) -> HttpResponseBase:
        """JSON lines, oldest first, each with its hash, and the signed head of the trail at the end."""
        parts = in_threads(trail.exported(request.query_params))
        answer = StreamingHttpResponse(parts, content_type="application/jsonl; charset=utf-8")
        answer["Content-Disposition"] = 'attachment; filename="audit.jsonl"'
        return answer
