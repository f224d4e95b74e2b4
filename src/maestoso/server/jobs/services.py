"""Asking for jobs, waiting for them, and looking after those that nobody works at."""

from __future__ import annotations

import threading
import time
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import Q
from django.db.models.functions import Now
from rest_framework.request import Request

from maestoso.core.errors import DomainError, NotFound, Refused
from maestoso.core.ports import Clock
from maestoso.core.wording import counted
from maestoso.engine.clock import SystemClock
from maestoso.server.common.hooks import Hook
from maestoso.server.jobs import queue
from maestoso.server.jobs.models import CANCELLED, DONE, FAILED, OPEN, WAITING, WORKING, Job, JobPart
from maestoso.server.jobs.work import PART, gone, perform

CLOCK = SystemClock()
MOST_OF_ONE = 2
"""Jobs of one kind that one person may have going."""
KEPT = timedelta(days=1)
TELL_AGAIN = timedelta(seconds=20)
NOBODY_AFTER = timedelta(minutes=2)
LOOK_EVERY_S = (0.02, 0.5)
LOOKED_AT = [field.attname for field in Job._meta.concrete_fields if field.name not in ("id", "args")]
MOST_WAITING = 4
_waiting = threading.BoundedSemaphore(MOST_WAITING)
may_take: Hook[[Request, Sequence[str]], None] = Hook()
"""Raises where whoever asks has not what a job needs (see :class:`Job`) any more."""


class TooMuchAtOnce(DomainError):
    """One person wants more of something at once than is fair. Remedy: wait until one of them is done."""

    code, status = "too-much-at-once", 429


def begin(
    kind: str, about: str, args: Mapping[str, Any], *, by: str, given: bytes = b"",
    needs: Sequence[str] = (),
) -> Job:  # fmt: skip
    """Write down that a job is to be done, and tell workers once that is committed.

    ``given`` is a file that it is about. ``needs``: see :class:`Job`. Raises TooMuchAtOnce.
    """
    now = CLOCK.now()
    going_on = list(Job.objects.filter(kind=kind, by=by, state__in=OPEN).order_by("id"))
    if len(going_on) >= MOST_OF_ONE:
        raise _too_much(going_on, now)
    with transaction.atomic():
        job = Job.objects.create(
            kind=kind, about=about[:200], args=dict(args), by=by, needs=list(needs), asked_at=now, sent_at=now
        )
        for number, at in enumerate(range(0, len(given), PART)):
            JobPart.objects.create(job=job, attempt=0, number=number, body=given[at : at + PART])
        if not settings.JOBS_AT_ONCE:
            transaction.on_commit(lambda: queue.send(job.pk))
    return job


def _too_much(going_on: Sequence[Job], now: datetime) -> TooMuchAtOnce:
    left = min((s for s in (seconds_left(job, now) for job in going_on) if s is not None), default=None)
    when = "when one of them is done" if left is None else f"in about {max(round(left), 1)} s"
    said = " and ".join(job.about for job in going_on)
    error = TooMuchAtOnce(
        f"{counted(len(going_on), 'job')} of this kind of yours are being done already: {said}.",
        f"Try again {when}, or cancel one of them.",
    )
    error.more = {"retry_after_s": max(round(left or 5.0), 1)}
    return error


def seconds_left(job: Job, now: datetime) -> float | None:
    """How long a job still takes, going by how it went so far; None where that is not known."""
    if job.state != WORKING or job.began_at is None or not 0 < job.done <= job.total:
        return None
    return (now - job.began_at).total_seconds() * (job.total - job.done) / job.done


def settled(job: Job, patience_s: float) -> Job:
    """The job once it is over, or as it is when the patience is.

    Only so many wait at once: whoever does keeps a place of the web server from everybody else. Where there
    is none left the job is not waited for.
    """
    if settings.JOBS_AT_ONCE:
        perform(job.pk, "at once", renewing=False)
    waits, (pause, longest) = _waiting.acquire(blocking=False), LOOK_EVERY_S
    until = time.monotonic() + (patience_s if waits else 0.0)
    try:
        while True:
            job.refresh_from_db(fields=LOOKED_AT)
            if job.state not in OPEN or time.monotonic() >= until:
                return job
            time.sleep(pause)
            pause = min(2 * pause, longest)
    finally:
        if waits:
            _waiting.release()


def jobs_of(by: str) -> list[Job]:
    """The jobs of somebody that are still kept, the newest first."""
    return list(Job.objects.filter(by=by).defer("args"))


def find_job(pk: int, by: str) -> Job:
    """A job of somebody. Raises NotFound, for those of others too."""
    job = Job.objects.filter(pk=pk, by=by).defer("args").first()
    if job is None:
        raise NotFound(f"You have no job {pk}.", "What was made is kept for a day; ask for it again.")
    return job


def cancel(job: Job) -> Job:
    """Stop a job; nothing of it stays. Raises Refused where it is over."""
    now = CLOCK.now()
    Job.objects.filter(pk=job.pk, state=WORKING).update(cancel=True)
    waited = Job.objects.filter(pk=job.pk, state=WAITING).update(
        state=CANCELLED, cancel=True, ended_at=now, args={}
    )
    if waited:
        JobPart.objects.filter(job=job).delete()
    job.refresh_from_db()
    if not job.cancel:
        raise Refused(f"Job {job.pk} is {job.state} already.", "There is nothing to cancel.")
    return job


def check_done(job: Job) -> None:
    """Raises what went wrong with a job, in its own words; Refused where it is not over or was cancelled."""
    if job.state == DONE:
        return
    if job.state == FAILED:
        said = job.problem
        error = DomainError(
            said["detail"], said.get("remedy", ""), field=said.get("field", ""), code=said["code"]
        )
        error.status = said["status"]
        raise error
    if job.state == CANCELLED:
        raise Refused(f"{job.about}: this was cancelled.", "Ask for it again.", code="job-cancelled")
    raise Refused(f"{job.about}: this is not done yet.", "Wait until it is.", code="job-not-done")


# --- what those who look after jobs do ---


def tell_again(clock: Clock) -> None:
    """Tell workers of what waits for long, and of what a worker began that is gone.

    Whoever calls it has workers that hear it.
    """
    now = clock.now()
    due = Q(state=WAITING, sent_at__lt=now - TELL_AGAIN) | Q(state=WORKING)
    for job in Job.objects.filter(due).only("pk", "state", "owner", "sent_at", "began_at"):
        if job.state == WAITING or (_is_lost(job) and _not_just_told(job, now)):
            Job.objects.filter(pk=job.pk).update(sent_at=now)
            queue.send(job.pk)


def _is_lost(job: Job) -> bool:
    return gone(job.owner) or Job.objects.filter(pk=job.pk, until__lt=Now()).exists()


def _not_just_told(job: Job, now: datetime) -> bool:
    return job.began_at is None or job.sent_at <= job.began_at or job.sent_at < now - TELL_AGAIN


def forget_old(clock: Clock) -> None:
    """Let go of what ended long ago."""
    for pk in Job.objects.filter(ended_at__lt=clock.now() - KEPT).values_list("pk", flat=True)[:100]:
        Job.objects.filter(pk=pk).delete()


# --- what monitors and the board ask ---


def nobody_works() -> timedelta | None:
    """For how long a job has waited with nobody at work; None where that is not so."""
    if Job.objects.filter(state=WORKING, until__gte=Now()).exists():
        return None
    oldest = Job.objects.filter(state=WAITING).order_by("asked_at").first()
    waited = CLOCK.now() - oldest.asked_at if oldest else timedelta(0)
    return waited if waited > NOBODY_AFTER else None
