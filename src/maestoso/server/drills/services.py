"""What can be done with drills: one function a verb; and what the keeper does at their times."""

from __future__ import annotations

import hashlib
import logging
import secrets
from datetime import datetime, timedelta

from django.db import IntegrityError, transaction

from maestoso.core.codec import to_data
from maestoso.core.drills.schedule import Blackout, Drill, check_blackout, check_drill, occurrences
from maestoso.core.errors import DomainError, NotFound, Stale
from maestoso.core.ports import Clock
from maestoso.server.audit.record import recorded
from maestoso.server.common.secret_text import seal, unseal
from maestoso.server.config.settings import OPTIONS
from maestoso.server.drills.models import BlackoutRow, DrillRow, DrillTime, FeedAddress
from maestoso.server.estate.models import Site
from maestoso.server.plans.models import PlanRow
from maestoso.server.plans.services import find_plan
from maestoso.server.readiness.shapes import RunOptions, StartRun
from maestoso.server.readiness.starts import start_run
from maestoso.server.runs.models import Run

log = logging.getLogger("maestoso.drills")
CALENDAR = "drill calendar"
"""Who started a run that no person did."""
LONGEST_REASON = 500


def find_drill(pk: int) -> DrillRow:
    """The drill of that number. Raises NotFound."""
    row = DrillRow.objects.filter(pk=pk).first()
    if row is None:
        raise NotFound(f"There is no drill {pk}.", "See the drill calendar.")
    return row


@recorded()
def make_drill(drill: Drill, at: datetime) -> DrillRow:
    """Put a drill on the calendar. Its past times do not count. Raises BadValue, NotFound."""
    _check(drill)
    return DrillRow.objects.create(plan_code=drill.plan, spec=to_data(drill), looked_until=at)


@recorded()
def change_drill(pk: int, drill: Drill, based_on: int, at: datetime) -> DrillRow:
    """Change a drill; what was missed stays missed, what is ahead follows the new rule. Raises Stale."""
    _check(drill)
    before = find_drill(pk)
    # What came a moment ago and was not noted yet must not be lost to the change.
    _note_times(before, before.core(), at, blackouts())
    row = DrillRow.objects.select_for_update().get(pk=pk)
    if row.revision != based_on:
        raise Stale("Somebody changed this drill in between.", "Load the calendar again.")
    row.plan_code, row.spec, row.revision, row.looked_until = drill.plan, to_data(drill), row.revision + 1, at
    row.save()
    return row


@recorded()
def remove_drill(pk: int) -> None:
    """Take a drill off the calendar; its runs stay."""
    find_drill(pk).delete()


@recorded()
def make_blackout(blackout: Blackout) -> BlackoutRow:
    """Keep a time free of drills. Raises BadValue."""
    check_blackout(blackout)
    return BlackoutRow.objects.create(spec=to_data(blackout))


@recorded()
def remove_blackout(pk: int) -> None:
    """Let drills begin in that time again. Raises NotFound."""
    if not BlackoutRow.objects.filter(pk=pk).delete()[0]:
        raise NotFound(f"There is no black-out {pk}.", "See the drill calendar.")


def blackouts() -> list[Blackout]:
    """All of them."""
    return [row.core() for row in BlackoutRow.objects.all()]


@recorded()
def new_feed_address() -> None:
    """Make a new private address for the feed; the one before is of no use any more."""
    token = secrets.token_urlsafe(24)
    FeedAddress.objects.all().delete()
    FeedAddress.objects.create(digest=_digest(token), sealed=seal(token))


@recorded()
def no_feed() -> None:
    """Take the feed away."""
    FeedAddress.objects.all().delete()


def feed_path() -> str:
    """The path of the feed; empty where there is none."""
    row = FeedAddress.objects.first()
    return f"/calendar/{unseal(row.sealed)}.ics" if row else ""


def is_feed(token: str) -> bool:
    """Whether ``token`` is the private part of the address."""
    return FeedAddress.objects.filter(digest=_digest(token)).exists()


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _check(drill: Drill) -> None:
    find_plan(drill.plan)
    check_drill(drill)


def begin_due_drills(clock: Clock) -> None:
    """Start drills that begin by themselves; note which were done, and which were not in their time."""
    now = clock.now()
    closed = blackouts()
    for row in DrillRow.objects.all():
        try:
            _note_times(row, row.core(), now, closed)
        except DomainError as error:
            log.warning("The times of drill %s cannot be reckoned: %s", row.pk, error.sentence)
    for time in DrillTime.objects.filter(outcome="").select_related("drill", "run"):
        _look_at(time, time.drill.core(), now)


def _note_times(row: DrillRow, drill: Drill, now: datetime, closed: list[Blackout]) -> None:
    """A row for each occurrence since the last look, however long ago that was."""
    until = now + timedelta(microseconds=1)
    with transaction.atomic():
        locked = DrillRow.objects.select_for_update().get(pk=row.pk)
        if locked.revision != row.revision or locked.looked_until >= until:
            return
        if not drill.paused:
            came = occurrences(drill, locked.looked_until, until, closed)
            DrillTime.objects.bulk_create(
                DrillTime(drill=locked, at=one.at, until=one.until) for one in came if not one.left_out
            )
        # Not by ``save``: no person changed anything, so nothing of it belongs in the audit trail.
        DrillRow.objects.filter(pk=row.pk).update(looked_until=until)


def _look_at(time: DrillTime, drill: Drill, now: datetime) -> None:
    done = time.run or _done_by(time)
    if done is not None:
        time.run, time.outcome, time.reason = done, "done", ""
    elif now >= time.until:
        time.outcome = "missed"
        time.reason = time.reason or _why_missed(drill)
    elif drill.starts_itself:
        _try(time, drill, now)
    else:
        return
    time.save()


def _done_by(time: DrillTime) -> Run | None:
    """A test of the plan that somebody started in the window, whoever it was."""
    found = Run.objects.filter(
        plan_code=time.drill.plan_code, kind="test", started_at__gte=time.at, started_at__lt=time.until
    )
    return found.order_by("pk").first()


def _why_missed(drill: Drill) -> str:
    if drill.starts_itself:
        return "Maestoso was not at work in its time."
    return "Nobody started a test of the plan in its time."


def _try(time: DrillTime, drill: Drill, now: datetime) -> None:
    """Start it. The key is that of the occurrence, so that it begins once however often it is tried."""
    plan = PlanRow.objects.filter(code=drill.plan).first()
    if plan is None:
        time.reason = "The plan does not exist any more."
        return
    target = Site.objects.filter(code=plan.version().core().target).first()
    pace = OPTIONS.pace if target is not None and target.practice else 1
    options = RunOptions(unattended=True, cleanup_after_s=drill.lasts_s, pace=pace)
    key = f"drill-{time.drill_id}-{time.at:%Y%m%dT%H%M%SZ}"
    try:
        time.run = start_run(StartRun(plan=drill.plan, options=options), by=CALENDAR, key=key, at=now)
        time.outcome, time.reason = "done", ""
    except DomainError as error:
        time.reason = f"It could not start: {error.sentence}"[:LONGEST_REASON]
    except IntegrityError:
        log.info("Drill %s was started by somebody else at the same moment", time.drill_id)
