"""Jobs over HTTP, and the answer of whatever asks for one: these translate, nothing else.

What takes long is answered as soon as it is done. Whoever prefers not to wait says so
(``Prefer: respond-async``, RFC 7240), and gets the job instead, with status 202; so does everybody when it
takes longer than most would wait.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, cast

from django.http import HttpResponse, HttpResponseBase, StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.common.shapes import reply, shape
from maestoso.server.common.streams import in_threads
from maestoso.server.jobs import services
from maestoso.server.jobs.models import OPEN, Job
from maestoso.server.jobs.shapes import JobView
from maestoso.server.jobs.work import PART, parts

CLOCK = SystemClock()
MOST_WAITED_S = 55.0
"""Proxies give up after a minute."""
ASYNC = "respond-async"
PREFER = OpenApiParameter(
    "Prefer", OpenApiTypes.STR, OpenApiParameter.HEADER,
    description="`respond-async`: answer at once with the job that makes it (RFC 7240).",
)  # fmt: skip


def makes(answer: Any) -> dict[Any, Any]:
    """Of the contract: what is answered when the job is done, and the job."""
    return {**(answer if isinstance(answer, dict) else {200: answer}), 202: shape(JobView)}


def answer(request: Request, job: Job) -> HttpResponseBase:
    """What a job made, once it is done; the job itself for who prefers not to wait.

    Raises what went wrong with it.
    """
    words = {word.strip() for word in request.headers.get("Prefer", "").split(",")}
    if ASYNC not in words:
        job = services.settled(job, MOST_WAITED_S)
    if job.state in OPEN:
        at_once = {"Preference-Applied": ASYNC} if ASYNC in words else {}
        where = {"Location": f"/api/v1/jobs/{job.pk}", "Retry-After": "1"}
        return reply(view(job, CLOCK.now()), 202, {**where, **at_once})
    return result_of(job)


def result_of(job: Job) -> HttpResponseBase:
    """What a job made. Raises what went wrong with it."""
    services.check_done(job)
    if not job.media_type:
        return HttpResponse(status=204)
    body: HttpResponseBase
    if job.size <= PART:
        body = HttpResponse(b"".join(parts(job)), content_type=job.media_type)
    else:
        body = StreamingHttpResponse(in_threads(parts(job)), content_type=job.media_type)
    if job.file_name:
        body["Content-Disposition"] = f'attachment; filename="{job.file_name}"'
    return body


def view(job: Job, now: datetime) -> JobView:
    """How a job stands."""
    began = job.began_at
    took_s = (now - began).total_seconds() if began and job.state == "working" else 0.0
    return JobView(
        id=job.pk, kind=job.kind, about=job.about, state=cast(Any, job.state),
        cancelling=job.cancel and job.state in OPEN, asked_at=job.asked_at, began_at=began,
        ended_at=job.ended_at, attempt=job.attempt, done=job.done, total=job.total,
        per_s=job.done / took_s if took_s > 0 and job.done else None,
        left_s=services.seconds_left(job, now), file=job.file_name, size=job.size,
        problem=job.why(),
    )  # fmt: skip


class JobList(APIView):
    """What was asked for and takes its time."""

    @extend_schema(operation_id="jobs", responses=shape(JobView)(many=True))
    def get(self, request: Request) -> Response:
        """The jobs of whoever asks, the newest first; what is over is kept for a day."""
        now = CLOCK.now()
        return reply([view(job, now) for job in services.jobs_of(_who(request))])


class JobDetail(APIView):
    """One of them."""

    @extend_schema(operation_id="job", responses=shape(JobView))
    def get(self, request: Request, pk: int) -> Response:
        """How it stands."""
        return reply(view(services.find_job(pk, _who(request)), CLOCK.now()))

    @extend_schema(operation_id="cancelJob", responses={200: shape(JobView)})
    def delete(self, request: Request, pk: int) -> Response:
        """Stop it; nothing of it stays."""
        return reply(view(services.cancel(services.find_job(pk, _who(request))), CLOCK.now()))


class JobResult(APIView):
    """What it made."""

    @extend_schema(
        operation_id="jobResult",
        responses={
            (200, "application/json"): OpenApiTypes.OBJECT,
            (200, "application/pdf"): OpenApiTypes.BINARY,
            (200, "application/zip"): OpenApiTypes.BINARY,
            (200, "text/csv"): OpenApiTypes.STR,
            204: None,
        },
    )
    def get(self, request: Request, pk: int) -> HttpResponseBase:
        """What the address that began it would have answered, a file or JSON; refused where it failed."""
        job = services.find_job(pk, _who(request))
        if job.needs:
            services.may_take(request, job.needs)
        return result_of(job)


def _who(request: Request) -> str:
    return str(request.user.get_username())
