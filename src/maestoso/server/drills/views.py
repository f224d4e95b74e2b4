"""Drills over HTTP: these translate, nothing else."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.drills.schedule import Blackout, Drill
from maestoso.engine.clock import SystemClock
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import if_match, read, reply, shape
from maestoso.server.drills import picture, services
from maestoso.server.drills.feed import icalendar
from maestoso.server.drills.shapes import Calendar, DrillTried

CLOCK = SystemClock()
MEDIA = "text/calendar; charset=utf-8"


def _calendar(request: Request, status: int = 200) -> Response:
    return reply(picture.calendar(CLOCK.now(), seen_by(request)), status)


class DrillsView(APIView):
    """The calendar."""

    @extend_schema(operation_id="drillCalendar", responses=shape(Calendar))
    def get(self, request: Request) -> Response:
        """All drills with their times, a year back and ahead."""
        return _calendar(request)

    @extend_schema(
        operation_id="makeDrill", request=shape(Drill, sent=True), responses={201: shape(Calendar)}
    )
    def post(self, request: Request) -> Response:
        """Put a drill on it."""
        services.make_drill(read(Drill, request), CLOCK.now())
        return _calendar(request, 201)


class TryView(APIView):
    """A schedule that is not saved yet."""

    @extend_schema(operation_id="tryDrill", request=shape(Drill, sent=True), responses=shape(DrillTried))
    def post(self, request: Request) -> Response:
        """What it would mean, in words and in its next times."""
        return reply(picture.tried(read(Drill, request), CLOCK.now()))


class OneDrillView(APIView):
    """One drill."""

    @extend_schema(operation_id="changeDrill", request=shape(Drill, sent=True), responses=shape(Calendar))
    def put(self, request: Request, pk: int) -> Response:
        """Change it; If-Match names the revision that the change began from."""
        services.change_drill(pk, read(Drill, request), if_match(request), CLOCK.now())
        return _calendar(request)

    @extend_schema(operation_id="removeDrill", responses={200: shape(Calendar)})
    def delete(self, request: Request, pk: int) -> Response:
        """Take it off the calendar."""
        services.remove_drill(pk)
        return _calendar(request)


class BlackoutsView(APIView):
    """Times without drills."""

    @extend_schema(
        operation_id="makeBlackout", request=shape(Blackout, sent=True), responses={201: shape(Calendar)}
    )
    def post(self, request: Request) -> Response:
        """Keep a time free."""
        services.make_blackout(read(Blackout, request))
        return _calendar(request, 201)


class OneBlackoutView(APIView):
    """One time without drills."""

    @extend_schema(operation_id="removeBlackout", responses={200: shape(Calendar)})
    def delete(self, request: Request, pk: int) -> Response:
        """Let drills begin in it again."""
        services.remove_blackout(pk)
        return _calendar(request)


class CalendarFile(APIView):
    """The calendar as a file."""

    @extend_schema(operation_id="drillCalendarFile", responses={(200, "text/calendar"): OpenApiTypes.STR})
    def get(self, request: Request) -> HttpResponse:
        """iCalendar (RFC 5545)."""
        answer = HttpResponse(icalendar(CLOCK.now()), content_type=MEDIA)
        answer["Content-Disposition"] = 'attachment; filename="drills.ics"'
        return answer


class FeedView(APIView):
    """The feed that calendars of people subscribe to."""

    @extend_schema(operation_id="newFeedAddress", request=None, responses={201: shape(Calendar)})
    def post(self, request: Request) -> Response:
        """Make a new private address; the one before ends."""
        services.new_feed_address()
        return _calendar(request, 201)

    @extend_schema(operation_id="removeFeedAddress", responses={200: shape(Calendar)})
    def delete(self, request: Request) -> Response:
        """Take the feed away."""
        services.no_feed()
        return _calendar(request)


def feed(request: HttpRequest, token: str) -> HttpResponse:
    """The calendar for whoever knows its private address; calendars of people cannot sign in."""
    if request.method not in ("GET", "HEAD") or not services.is_feed(token):
        return HttpResponse("There is no calendar at this address.", status=404, content_type="text/plain")
    answer = HttpResponse(icalendar(CLOCK.now()), content_type=MEDIA)
    answer["Cache-Control"] = "private, max-age=300"
    return answer
