"""Runs over HTTP: these translate, nothing else."""

from __future__ import annotations

from collections.abc import Mapping

from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.model.protection import CopyState
from maestoso.core.people.roles import to_control
from maestoso.core.runs.state import RunState
from maestoso.core.score import run_score
from maestoso.engine.clock import SystemClock
from maestoso.server.access.may import require, roles_of
from maestoso.server.common.paging import CURSOR, page_of
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import Number, read, reply, shape
from maestoso.server.estate.models import Site
from maestoso.server.runs import fences, listing, picture, services
from maestoso.server.runs.events import read_log, run_name
from maestoso.server.runs.models import SavedView
from maestoso.server.runs.shapes import (
    Control,
    EventView,
    Review,
    RunDetail,
    RunLandings,
    RunLine,
    RunPage,
    RunStatus,
    SavedRunView,
    StepAsked,
    TrapView,
)
from maestoso.server.runs.states import current

CLOCK = SystemClock()
AFTER = Number("after", 0, 10**9, "Only later events.", otherwise=0)


def key_header(*, required: bool) -> OpenApiParameter:
    return OpenApiParameter(
        "Idempotency-Key", OpenApiTypes.STR, OpenApiParameter.HEADER, required=required,
        description="New for each new request; the same key counts once.",
    )  # fmt: skip


class RunsView(APIView):
    """All runs."""

    @extend_schema(
        operation_id="runs",
        parameters=[
            OpenApiParameter("plan", OpenApiTypes.STR, description="Only runs of this plan."),
            OpenApiParameter("kind", OpenApiTypes.STR, enum=listing.KINDS),
            OpenApiParameter("outcome", OpenApiTypes.STR, enum=listing.OUTCOMES),
            OpenApiParameter("since", OpenApiTypes.DATE, description="Started on this day (UTC) or later."),
            OpenApiParameter("until", OpenApiTypes.DATE, description="Started on this day (UTC) or before."),
            OpenApiParameter("find", OpenApiTypes.STR, description="Words of its plan, notes or starter."),
            CURSOR,
        ],
        responses=shape(RunPage),
    )
    def get(self, request: Request) -> Response:
        """Runs, newest first, a hundred at a time."""
        rows, following = page_of(listing.find_runs(request.query_params, seen_by(request)), request)
        return reply(RunPage(runs=tuple(map(picture.line, rows)), next=following))


class RunViewsView(APIView):
    """Filters of the list that the person who asks named."""

    @extend_schema(operation_id="runViews", responses=shape(SavedRunView)(many=True))
    def get(self, request: Request) -> Response:
        """By name."""
        return reply(_views(request))

    @extend_schema(
        operation_id="saveRunView",
        request=shape(SavedRunView, sent=True),
        responses=shape(SavedRunView)(many=True),
    )
    def put(self, request: Request) -> Response:
        """Name a filter, or give a name another one."""
        sent = read(SavedRunView, request)
        listing.save_view(request.user.get_username(), sent.name, sent.query)
        return reply(_views(request))

    @extend_schema(
        operation_id="forgetRunView",
        parameters=[OpenApiParameter("name", OpenApiTypes.STR, required=True)],
        responses={200: shape(SavedRunView)(many=True)},
    )
    def delete(self, request: Request) -> Response:
        """Remove one."""
        listing.forget_view(request.user.get_username(), request.query_params.get("name", ""))
        return reply(_views(request))


def _views(request: Request) -> list[SavedRunView]:
    rows = SavedView.objects.filter(owner=request.user.get_username())
    return [SavedRunView(name=row.name, query=row.query) for row in rows]


class RunView(APIView):
    """One run."""

    @extend_schema(operation_id="run", responses=shape(RunDetail))
    def get(self, request: Request, pk: int) -> Response:
        """How it stands, with its score."""
        copied = picture.copying(services.find_run(pk))
        with current(pk) as state:
            return reply(RunDetail(status=_status(pk, state, copied), steps=run_score(state, CLOCK.now())))


class TryAgainView(APIView):
    """A run that was put aside."""

    @extend_schema(operation_id="tryRunAgain", request=None, responses={204: None})
    def post(self, request: Request, pk: int) -> Response:
        """Let it be conducted again; it is put aside anew if the same goes wrong."""
        services.try_again(pk)
        return Response(status=204)


class LandingsView(APIView):
    """Where everything came down."""

    @extend_schema(operation_id="runLandings", responses=shape(RunLandings))
    def get(self, request: Request, pk: int) -> Response:
        """Planned and actual, adapter by adapter."""
        services.find_run(pk)
        with current(pk) as state:
            return reply(picture.run_landings(state))


class TrapsView(APIView):
    """Known traps of what a run is about."""

    @extend_schema(operation_id="runTraps", responses=shape(TrapView)(many=True))
    def get(self, request: Request, pk: int) -> Response:
        """Those that are open, or were solved since it began."""
        services.find_run(pk)
        with current(pk) as state:
            return reply(picture.traps(state))


class EventsView(APIView):
    """The log of a run."""

    @extend_schema(
        operation_id="runEvents",
        parameters=[AFTER],
        responses=shape(EventView)(many=True),
    )
    def get(self, request: Request, pk: int) -> Response:
        """Events in words, in order."""
        services.find_run(pk)
        events = read_log(pk, AFTER.of(request))
        with current(pk) as state:
            return reply(picture.in_words(state, events))


class ControlsView(APIView):
    """Telling a run something."""

    @extend_schema(
        operation_id="tellRun",
        parameters=[key_header(required=False)],
        request=shape(Control, sent=True),
        responses=shape(RunStatus),
    )
    def post(self, request: Request, pk: int) -> Response:
        """Hold, resume, abort, retry, skip, answer, judge, commit, roll back or take another point."""
        sent = read(Control, request)
        require(request, to_control(services.find_run(pk).kind, sent.kind), "run", str(pk))
        services.control_run(
            pk, sent, by=request.user.get_username(), at=CLOCK.now(),
            key=request.headers.get("Idempotency-Key"), roles=roles_of(request),
        )  # fmt: skip
        copied = picture.copying(services.find_run(pk))
        with current(pk) as state:
            return reply(_status(pk, state, copied))


class StepView(APIView):
    """One step of a run."""

    @extend_schema(
        operation_id="runStep",
        parameters=[OpenApiParameter("step", OpenApiTypes.STR, required=True, description="Its id.")],
        responses=shape(StepAsked),
    )
    def get(self, request: Request, pk: int) -> Response:
        """What its site was asked, and what it said each time."""
        services.find_run(pk)
        events = read_log(pk)
        name = request.query_params.get("step", "")
        with current(pk) as state:
            return reply(picture.asked_of_site(run_name(pk), state, events, name))


class FoundRunningView(APIView):
    """Source copies that were found running after a failover."""

    @extend_schema(operation_id="sawFoundRunning", request=None, responses=shape(RunStatus))
    def post(self, request: Request, pk: int) -> Response:
        """Say that somebody looked at what they wrote."""
        run = services.find_run(pk)
        fences.seen(run, request.user.get_username())
        copied = picture.copying(run)
        with current(pk) as state:
            return reply(_status(pk, state, copied))


class ReviewView(APIView):
    """A start without approvals, looked at afterwards."""

    @extend_schema(operation_id="reviewRun", request=shape(Review, sent=True), responses=shape(RunLine))
    def post(self, request: Request, pk: int) -> Response:
        """Review an emergency start."""
        text = read(Review, request).text
        run = services.review_emergency(pk, text, by=request.user.get_username(), at=CLOCK.now())
        return reply(picture.line(run))


def _status(pk: int, state: RunState, copied: Mapping[str, CopyState]) -> RunStatus:
    return picture.status(pk, state, dict(Site.objects.values_list("code", "name")), CLOCK.now(), copied)
