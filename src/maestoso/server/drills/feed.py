"""The drill calendar as iCalendar (RFC 5545)."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from icalendar import Alarm, Event, vRecur
from icalendar import Calendar as ICalendar

from maestoso.core.drills.schedule import Blackout, Drill, local, occurrences
from maestoso.server.config.settings import SECRETS
from maestoso.server.drills.models import DrillRow
from maestoso.server.drills.services import blackouts
from maestoso.server.drills.words import in_words
from maestoso.server.plans.models import PlanRow

AHEAD = timedelta(days=3 * 366)


def icalendar(now: datetime) -> bytes:
    """All drills that are not paused, with the days that are left out, and their time zones."""
    made = ICalendar()
    made.add("prodid", "-//Maestoso//drill calendar//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", "Drills")
    names = {row.code: row.version().core().name for row in PlanRow.objects.all()}
    closed = blackouts()
    for row in DrillRow.objects.all():
        drill = row.core()
        if not drill.paused:
            made.add_component(
                _event(row.pk, row.revision, drill, names.get(drill.plan, drill.plan), closed, now)
            )
    made.add_missing_timezones()
    return bytes(made.to_ical())


def _event(
    pk: int, revision: int, drill: Drill, plan: str, closed: list[Blackout], now: datetime
) -> Event:  # fmt: skip
    zone = ZoneInfo(drill.time_zone)
    begins = local(drill.starts, "starts").replace(tzinfo=zone)
    event = Event()
    event.add("uid", f"drill-{pk}@{SECRETS.instance}.example")
    event.add("dtstamp", now.astimezone(UTC))
    event.add("sequence", revision)
    event.add("summary", f"Drill: {plan} ({drill.name})")
    event.add("dtstart", begins)
    event.add("duration", timedelta(seconds=drill.window_s))
    told = "It starts by itself." if drill.starts_itself else "Somebody has to start a test of the plan."
    owner = f" Owner: {drill.owner}." if drill.owner else ""
    event.add("description", f"{in_words(drill)}. {told}{owner}")
    if drill.rule:
        event.add("rrule", vRecur.from_ical(drill.rule.removeprefix("RRULE:")))
    # From its first time on: a calendar shows what was left out in the past as well.
    first = min(begins.astimezone(UTC), now - AHEAD)
    for one in occurrences(drill, first, now + AHEAD, closed):
        if one.left_out:
            event.add("exdate", one.at.astimezone(zone))
    if drill.remind_days:
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("description", f"Drill of {plan} in {drill.remind_days} days")
        alarm.add("trigger", timedelta(days=-drill.remind_days))
        event.add_component(alarm)
    return event
