"""Doing a job: taking it up for a while, saying how far it is, and closing it, each by one worker only.

Whoever takes a job up has it until a moment of the database's clock, and puts that off while it works. A
worker that died is followed by another, which begins anew: what an attempt made counts only when its job is
closed, in one transaction that looks whether the attempt is still the one.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, nullcontext
from typing import Any

from django.db import DatabaseError, connection, transaction

from maestoso.core.errors import DomainError
from maestoso.core.wording import counted
from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import known_gone
from maestoso.server.audit.record import in_the_name_of
from maestoso.server.common.logs import request_id
from maestoso.server.common.rendering import Json
from maestoso.server.common.traces import job_done, tracing
from maestoso.server.jobs.models import CANCELLED, DONE, FAILED, WAITING, WORKING, Job, JobPart

CLOCK = SystemClock()
LEASE_S = 60.0
RENEW_EVERY_S, LOOK_EVERY_S = 10.0, 0.5
MOST_ATTEMPTS = 3
PART = 2**20
JSON = "application/json"
UNEXPECTED = "Something went wrong here; nothing was changed. The log of the worker says what, under job {}."
log = logging.getLogger("maestoso.jobs")


class Stopped(Exception):
    """The job was cancelled, or somebody else has it: whoever works at it lets go."""


class Work:
    """A job in the hands of one attempt, for the function of its kind."""

    def __init__(self, job: Job) -> None:
        self.job = job
        self.args: Mapping[str, Any] = job.args
        self.done = self.total = 0
        self.stopped = False
        self._parts, self._kept = 0, bytearray()

    def tell(self, done: int, total: int = 0) -> None:
        """Say how far it is, of a ``total`` where that is known. Raises Stopped where it must not go on."""
        self.done, self.total = done, total
        if self.stopped:
            raise Stopped

    def given(self) -> bytes:
        """What was sent along."""
        return b"".join(parts(self.job, attempt=0))

    def write(self, body: bytes) -> None:
        """Add to the file that it makes, or that is the answer."""
        self._kept += body
        self.job.size += len(body)
        while len(self._kept) >= PART:
            self._put(PART)

    def answer(self, value: Any) -> None:
        """A dataclass, or what else is JSON, as the answer."""
        self.write(Json().render(value))
        self.job.media_type = JSON

    def file(self, name: str, media_type: str) -> None:
        """What is written is a file with this name."""
        self.job.file_name, self.job.media_type = name, media_type

    @contextmanager
    def changing(self) -> Iterator[None]:
        """A transaction for what a job changes, which holds only while the job is in these hands, and wanted.

        The audit trail has it in the name of whoever asked. Raises Stopped, and everything is taken back.
        """
        job = self.job
        with in_the_name_of(job.by, f"{job.about} (job {job.pk})", f"jobs/{job.pk}"):
            yield
            self._check()

    def close(self, state: str, problem: Mapping[str, Any] | None = None) -> None:
        """Write down how it ended. Raises Stopped where that is not ours to say any more."""
        job = self.job
        with transaction.atomic():
            if state == DONE:
                self._check()
                self._put(len(self._kept))
            JobPart.objects.filter(job=job).exclude(attempt=job.attempt if state == DONE else -1).delete()
            closed = Job.objects.filter(pk=job.pk, attempt=job.attempt, state=WORKING).update(
                state=state, problem=dict(problem or {}), ended_at=CLOCK.now(), owner="", until=None,
                done=self.done, total=self.total, args={},
                media_type=job.media_type, file_name=job.file_name, size=job.size,
            )  # fmt: skip
            if not closed:
                raise Stopped
        if tracing() and job.began_at is not None:
            job_done(job.pk, job.kind, job.attempt, state, job.began_at, CLOCK.now())

    def _check(self) -> None:
        rows = Job.objects.select_for_update().filter(pk=self.job.pk, attempt=self.job.attempt, state=WORKING)
        if list(rows.values_list("cancel", flat=True)) != [False]:
            raise Stopped

    def _put(self, size: int) -> None:
        body = bytes(self._kept[:size])
        del self._kept[:size]
        if body:
            JobPart.objects.create(job=self.job, attempt=self.job.attempt, number=self._parts, body=body)
            self._parts += 1


Do = Callable[[Work], None]
_kinds: dict[str, Do] = {}


def job_kind(name: str) -> Callable[[Do], Do]:
    """Marks what does jobs of a kind. It may be begun again from the start after a worker died in it."""

    def mark(do: Do) -> Do:
        _kinds[name] = do
        return do

    return mark


def parts(job: Job, attempt: int | None = None) -> Iterator[bytes]:
    """What it made, piece by piece; or of another attempt, 0 for what it was given."""
    wanted = JobPart.objects.filter(job=job, attempt=job.attempt if attempt is None else attempt)
    for number in list(wanted.order_by("number").values_list("number", flat=True)):
        yield bytes(wanted.get(number=number).body)


def gone(owner: str) -> bool:
    """Whether the process that has a job is known to have ended."""
    return known_gone(owner, f"{owner.rpartition('/')[0]}/")


def perform(pk: int, owner: str, *, renewing: bool = True) -> bool:
    """Do a job, unless somebody else has it; returns whether it was done here, however it ended.

    ``renewing``: its lease is renewed, and it is looked whether it was cancelled, over a connection of its
    own.
    """
    job = _take_up(pk, owner)
    if job is None:
        return False
    work = Work(job)
    try:
        with _renewed(work) if renewing else nullcontext():
            if job.cancel:
                raise Stopped
            if job.attempt > MOST_ATTEMPTS:
                raise GivenUp(
                    f"Whoever worked at it ended in the middle, {counted(MOST_ATTEMPTS, 'time')}.",
                    "Ask for less at once, and see the log of the workers.",
                )
            do = _kinds.get(job.kind)
            if do is None:
                raise GivenUp("This release does not know such a job.", "Ask for it again.")
            do(work)
            work.close(DONE)
    except Stopped:
        Job.objects.filter(pk=pk, attempt=job.attempt, state=WORKING, cancel=True).update(
            state=CANCELLED, ended_at=CLOCK.now(), owner="", until=None, args={}
        )
    except DomainError as error:
        _fail(work, error.status, error.code, error.sentence, error.remedy, error.field)
    except DatabaseError:
        # Nothing can be written down now; another attempt is made when the lease is over.
        raise
    except Exception:
        log.exception("Job %s (%s) failed; request %s", pk, job.about, request_id())
        _fail(work, 500, "unexpected", UNEXPECTED.format(pk))
    return True


class GivenUp(DomainError):
    """No attempt at a job will come to an end. Remedy: ask for less, or again."""

    code = "job-given-up"
    status = 500


def _fail(work: Work, status: int, code: str, detail: str, remedy: str = "", field: str = "") -> None:
    said = {"status": status, "code": code, "detail": detail, "remedy": remedy, "field": field}
    try:
        work.close(FAILED, {key: value for key, value in said.items() if value})
    except Stopped:
        log.warning("Job %s failed here (%s), and is in other hands now", work.job.pk, detail)


def _take_up(pk: int, owner: str) -> Job | None:
    """The next attempt at a job that nobody works at; None where there is nothing to do."""
    job = Job.objects.filter(pk=pk, state__in=(WAITING, WORKING)).first()
    if job is None:
        return None
    before = job.owner if job.owner and gone(job.owner) else "nobody"
    with connection.cursor() as cursor:
        cursor.execute(
            "UPDATE jobs_job SET state=%s, attempt=attempt+1, owner=%s, began_at=%s, done=0, total=0,"
            " until=UTC_TIMESTAMP(6) + INTERVAL %s SECOND"
            " WHERE id=%s AND attempt=%s"
            " AND (state=%s OR (state=%s AND (until < UTC_TIMESTAMP(6) OR owner=%s)))",
            [WORKING, owner, CLOCK.now(), LEASE_S, pk, job.attempt, WAITING, WORKING, before],
        )
        if cursor.rowcount != 1:
            return None
    job.refresh_from_db()
    job.size = 0
    return job


@contextmanager
def _renewed(work: Work) -> Iterator[None]:
    """While it is worked at: its lease, its progress, and whether it is still wanted."""
    over = threading.Event()

    def look_after() -> None:
        renew_in, said = RENEW_EVERY_S, (0, 0)
        mine = Job.objects.filter(pk=work.job.pk, attempt=work.job.attempt, state=WORKING)
        while not over.wait(LOOK_EVERY_S):
            renew_in -= LOOK_EVERY_S
            now = (work.done, work.total)
            try:
                if now != said:
                    mine.update(done=now[0], total=now[1])
                    said = now
                if renew_in <= 0:
                    _renew(work.job)
                    renew_in = RENEW_EVERY_S
                if list(mine.values_list("cancel", flat=True)) != [False]:
                    work.stopped = True
            except DatabaseError as error:
                log.warning("Job %s cannot be looked after now: %s", work.job.pk, error)
                connection.close()
        connection.close()

    thread = threading.Thread(target=look_after, name=f"job {work.job.pk}", daemon=True)
    thread.start()
    try:
        yield
    finally:
        over.set()
        thread.join()


def _renew(job: Job) -> None:
    with connection.cursor() as cursor:
        cursor.execute(
            "UPDATE jobs_job SET until=UTC_TIMESTAMP(6) + INTERVAL %s SECOND"
            " WHERE id=%s AND attempt=%s AND state=%s",
            [LEASE_S, job.pk, job.attempt, WORKING],
        )
