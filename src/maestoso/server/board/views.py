"""The board and the site line over HTTP."""

from __future__ import annotations

from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.board.search import find_anything
from maestoso.server.board.shapes import PlanList, Readiness, SearchResult, SiteLine
from maestoso.server.board.site_line import site_line
from maestoso.server.board.stored import board_text, plan_list
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import reply, shape
from maestoso.server.plans.views import MakePlan

CLOCK = SystemClock()
LONGEST_WORDS = 200
FIND = OpenApiParameter("find", str, description="Words, all of which what is found holds.")


class ReadinessView(APIView):
    """The readiness board."""

    @extend_schema(operation_id="readiness", responses=shape(Readiness))
    def get(self, request: Request) -> HttpResponse:
        """Every plan, can it run now, would it meet its objectives, when was that proved."""
        return HttpResponse(board_text(CLOCK.now(), seen_by(request)), content_type="application/json")


class PlansView(MakePlan):
    """All plans."""

    @extend_schema(operation_id="plans", responses=shape(PlanList))
    def get(self, request: Request) -> Response:
        """Every plan in a line, with how it stood when that was last looked at."""
        return reply(plan_list(CLOCK.now(), seen_by(request)))


class SearchView(APIView):
    """Finding anything."""

    @extend_schema(operation_id="search", parameters=[FIND], responses=shape(SearchResult))
    def get(self, request: Request) -> Response:
        """Plans, runs, workloads, groups, sites, scripts and findings that hold all the words."""
        return reply(
            find_anything(request.query_params.get("find", "")[:LONGEST_WORDS], CLOCK.now(), seen_by(request))
        )


class SiteLineView(APIView):
    """The strip on every page."""

    @extend_schema(operation_id="siteLine", responses=shape(SiteLine))
    def get(self, request: Request) -> Response:
        """Sites, what runs where, which way protection flows, and runs under way."""
        return reply(site_line(CLOCK.now(), str(request.user.get_username()), seen_by(request)))
