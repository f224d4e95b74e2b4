"""Requests to sites over HTTP."""

from __future__ import annotations

from itertools import chain
from typing import Any

from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.outbox import WAITING
from maestoso.server.common.shapes import reply, shape
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.shapes import RequestView

MOST = 200
"""How many of those that wait, and of those that do not any more."""


class RequestsView(APIView):
    """What sites are asked for."""

    @extend_schema(operation_id="siteRequests", responses=shape(RequestView)(many=True))
    def get(self, request: Request) -> Response:
        """What sites were asked for outside of runs: what waits first, then the latest."""
        rows = SiteRequest.objects.select_related("site").defer("args", "result")
        waiting, settled = rows.filter(status=WAITING), rows.exclude(status=WAITING)
        return reply([_view(row) for row in chain(waiting[:MOST], settled.order_by("-id")[:MOST])])


def _view(row: SiteRequest) -> RequestView:
    status: Any = row.status
    return RequestView(
        id=row.pk, site=row.site.code, verb=row.verb, subject=row.subject, by=row.by, asked_at=row.asked_at,
        settled_at=row.settled_at, status=status, insists=row.insists,
        tries=row.generation if row.sent_at else 0, reason=row.reason,
    )  # fmt: skip
