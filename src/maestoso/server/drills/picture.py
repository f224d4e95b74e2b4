"""The drill calendar as the pages show it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from maestoso.core.drills.schedule import Blackout, Drill, check_drill, next_of, occurrences, span_of
from maestoso.core.people.scope import Reach
from maestoso.core.wording import counted
from maestoso.server.drills.models import BlackoutRow, DrillRow, DrillTime
from maestoso.server.drills.services import blackouts, feed_path
from maestoso.server.drills.shapes import BlackoutView, Calendar, DrillTimeView, DrillTried, DrillView
from maestoso.server.drills.words import in_words
from maestoso.server.plans.services import newest_versions
from maestoso.server.readiness.shapes import NextAction
from maestoso.server.runs.models import Run

BACK, AHEAD = timedelta(days=366), timedelta(days=366)
MOST_TIMES = 400
TRIED = 6
SEEN_MISSED = timedelta(days=14)
"""How long a drill that was missed, or failed, is asked for, unless the plan passes a test."""


def calendar(now: datetime, reach: Reach) -> Calendar:
    """All drills of plans within reach with their times, a year back and ahead.

    The address of the feed, which holds all of them, is for who sees everything.
    """
    closed = blackouts()
    names = {row.plan.code: row.core().name for row in newest_versions()}
    drills = tuple(view(row, names, closed, now) for row in DrillRow.objects.all()
                   if reach.has("plan", row.plan_code))  # fmt: skip
    return Calendar(
        sentence=_sentence(drills, now),
        drills=drills,
        blackouts=tuple(_blackout(row) for row in BlackoutRow.objects.all()),
        feed=feed_path() if reach.everything else "",
    )


def view(row: DrillRow, names: dict[str, str], closed: Sequence[Blackout], now: datetime) -> DrillView:
    """One drill."""
    drill = row.core()
    coming = next_of(drill, now, closed)
    past = row.times.filter(at__gte=now - BACK).select_related("run")
    ahead = [] if drill.paused else _ahead(drill, max(now, row.looked_until), now + AHEAD, closed)
    return DrillView(
        id=row.pk,
        revision=row.revision,
        drill=drill,
        plan_name=names.get(drill.plan, drill.plan),
        in_words=in_words(drill),
        next_at=coming.at if coming else None,
        times=(*map(_past, past), *ahead[:MOST_TIMES]),
    )


def tried(drill: Drill, now: datetime) -> DrillTried:
    """What a schedule would mean. Raises BadValue."""
    check_drill(drill)
    return DrillTried(
        in_words=in_words(drill), next=tuple(_ahead(drill, now, now + 6 * AHEAD, blackouts())[:TRIED])
    )


def _ahead(
    drill: Drill, since: datetime, until: datetime, closed: Sequence[Blackout]
) -> list[DrillTimeView]:  # fmt: skip
    found = []
    for one in occurrences(drill, since, until, closed):
        state = "left-out" if one.left_out else "ahead"
        found.append(
            DrillTimeView(at=one.at, until=one.until, state=state, reason=one.left_out, run=None, outcome="")
        )
        if len(found) >= MOST_TIMES:
            break
    return found


def _past(time: DrillTime) -> DrillTimeView:
    return DrillTimeView(
        at=time.at, until=time.until, state=time.outcome or "open", reason=time.reason, run=time.run_id,
        outcome=time.run.outcome or "under way" if time.run else "",
    )  # fmt: skip


def _blackout(row: BlackoutRow) -> BlackoutView:
    begins, ends = span_of(row.core())
    return BlackoutView(id=row.pk, blackout=row.core(), from_at=begins, to_at=ends)


def _sentence(drills: Sequence[DrillView], now: datetime) -> str:
    if not drills:
        return "No drill is scheduled. A plan that nobody tests becomes a hope."
    ahead = [one for one in drills if one.next_at is not None]
    missed = sum(1 for one in drills for time in one.times if time.state == "missed")
    text = f"{counted(len(drills), 'drill')} on the calendar"
    if ahead:
        first = min(ahead, key=lambda one: one.next_at or now)
        days = ((first.next_at or now) - now).days
        when = "today or tomorrow" if days < 1 else f"in {counted(days, 'day')}"
        text += f"; the next is {first.drill.name} of {first.plan_name}, {when}"
    return f"{text}; {counted(missed, 'time')} missed within a year." if missed else f"{text}."


def next_actions(now: datetime) -> list[NextAction]:
    """Drills that are due, will be soon, or were missed: for the readiness board."""
    closed, actions = blackouts(), []
    names = {row.plan.code: row.core().name for row in newest_versions()}
    for row in DrillRow.objects.all():
        drill, name = row.core(), names.get(row.plan_code, row.plan_code)
        last = row.times.order_by("-at").first()
        if last is not None and last.outcome == "" and not drill.starts_itself:
            actions.append(_action("due", row, f"{name} is due now", _until(last, drill)))  # fmt: skip
        elif last is not None and last.until > now - SEEN_MISSED and not _passed_since(last):
            if last.outcome == "missed":
                actions.append(_action("missed", row, f"{name} was missed", last.reason))
            elif last.run is not None and last.run.outcome:
                actions.append(_failed(row, drill, name, last.run))
        coming = next_of(drill, now, closed)
        if coming is not None and coming.at - now <= timedelta(days=drill.remind_days):
            how = "It starts by itself." if drill.starts_itself else "Somebody has to start it."
            days = (coming.at - now).days
            when = "within a day" if days < 1 else f"in {counted(days, 'day')}"
            actions.append(
                NextAction(
                    code="drill-ahead", about=str(row.pk), urgency="sometime",
                    title=f"{drill.name} of {name} comes {when}", sentence=how,
                    label="See the calendar", to="/evidence/calendar",
                )
            )  # fmt: skip
    return actions


def _passed_since(time: DrillTime) -> bool:
    """Whether its plan passed a test in its window or later."""
    passed = Run.objects.filter(plan_code=time.drill.plan_code, kind="test", outcome="passed")
    return passed.filter(started_at__gte=time.at).exists()


def _failed(row: DrillRow, drill: Drill, name: str, run: Run) -> NextAction:
    how = "failed" if run.outcome == "failed" else f"ended without a pass: {run.outcome}"
    return NextAction(
        code="drill-failed", about=f"{row.pk}/{run.pk}", urgency="soon", label="See the run",
        title=f"{drill.name} of {name} {how}", to=f"/runs/{run.pk}",
        sentence=f"It was run {run.pk}, on {run.started_at:%-d %B}. See what went wrong, then test it again.",
    )  # fmt: skip


def _until(time: DrillTime, drill: Drill) -> str:
    who = f"{drill.owner} starts it" if drill.owner else "Start a test of the plan"
    return f"{who} before {time.until:%-d %B, %H:%M} UTC."


def _action(how: str, row: DrillRow, title: str, sentence: str) -> NextAction:
    drill = row.core()
    return NextAction(
        code=f"drill-{how}", about=str(row.pk), urgency="soon", title=f"{drill.name} of {title}",
        sentence=sentence, label="Start a test", to=f"/plans/{drill.plan}/start",
    )  # fmt: skip
