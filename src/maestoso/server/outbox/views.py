"""Requests to sites over HTTP."""

from __future__ import annotations

from typing import Any

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.outbox import WAITING
from maestoso.server.common.paging import CURSOR, page_of
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import reply, shape
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.shapes import RequestPage, RequestView


class RequestsView(APIView):
    """What sites are asked for."""

    @extend_schema(
        operation_id="siteRequests",
        parameters=[
            OpenApiParameter("site", OpenApiTypes.STR, description="Only of this site, by its code."),
            CURSOR,
        ],
        responses=shape(RequestPage),
    )
    def get(self, request: Request) -> Response:
        """What sites were asked for outside of runs: all that waits, and the latest of the rest."""
        rows = SiteRequest.objects.select_related("site").defer("args", "result")
        seen = seen_by(request)
        if not seen.everything:
            rows = rows.filter(site__code__in=seen.own_sites)
        if request.query_params.get("site"):
            rows = rows.filter(site__code=request.query_params["site"])
        settled, following = page_of(rows.exclude(status=WAITING), request)
        waiting = rows.filter(status=WAITING)
        return reply(
            RequestPage(
                waiting=tuple(map(_view, waiting)), settled=tuple(map(_view, settled)), next=following
            )
        )


def _view(row: SiteRequest) -> RequestView:
    status: Any = row.status
    return RequestView(
        id=row.pk, site=row.site.code, verb=row.verb, subject=row.subject, by=row.by, asked_at=row.asked_at,
        settled_at=row.settled_at, status=status, insists=row.insists,
        tries=row.generation if row.sent_at else 0, reason=row.reason,
    )  # fmt: skip
