"""When drills are due: recurrence by RFC 5545 in the time of a place, with black-out times.

A rule is laid out in local time and only then turned into UTC, so that 20:00 stays 20:00 when clocks change.
A local time that comes twice in autumn counts once, the first time; one that does not exist in spring counts
as RFC 5545, 3.3.5 says, by the offset before the gap.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from dateutil.rrule import rrulestr

from maestoso.core.errors import BadValue

MOST_DAYS = 366 * 6
MOST_WINDOW_S = 7 * 86400
LOCAL = "%Y-%m-%dT%H:%M"
_OFTEN = ("SECONDLY", "MINUTELY", "HOURLY")


@dataclass(frozen=True, slots=True, kw_only=True)
class Drill:
    """A schedule of tests of one plan.

    ``starts`` is the first local time in ``time_zone``, as 2026-12-01T20:00; ``rule`` an RRULE of RFC 5545
    without its name, empty for once. A drill may begin up to ``window_s`` seconds after its time. With
    ``starts_itself`` it does, and is taken away after ``lasts_s`` seconds at most; else somebody is reminded,
    ``remind_days`` before. ``left_out`` are local days on which it does not take place.
    """

    plan: str
    name: str
    starts: str
    time_zone: str
    rule: str = ""
    window_s: int = 4 * 3600
    lasts_s: int = 4 * 3600
    starts_itself: bool = False
    owner: str = ""
    remind_days: int = 3
    paused: bool = False
    left_out: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Blackout:
    """A time in which no drill begins: local times ``begins`` (in it) and ``ends`` (not in it)."""

    name: str
    begins: str
    ends: str
    time_zone: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Occurrence:
    """One time of a drill in UTC; ``left_out`` is why it does not take place, empty where it does."""

    at: datetime
    until: datetime
    left_out: str = ""


def check_drill(drill: Drill) -> None:
    """Raises BadValue naming the field that cannot be."""
    zone_of(drill.time_zone, "time_zone")
    local(drill.starts, "starts")
    for name, value, least, most in (
        ("window_s", drill.window_s, 300, MOST_WINDOW_S),
        ("lasts_s", drill.lasts_s, 300, MOST_WINDOW_S),
        ("remind_days", drill.remind_days, 0, 60),
    ):
        if not least <= value <= most:
            raise BadValue(f"{name} is {value}.", f"Give {least} to {most}.", field=name)
    if not drill.name.strip() or len(drill.name) > 80:
        raise BadValue("The drill has no name, or a long one.", "Give 1 to 80 characters.", field="name")
    for day in drill.left_out:
        local(f"{day}T00:00", "left_out")
    _rule(drill)


def check_blackout(blackout: Blackout) -> None:
    """Raises BadValue naming the field that cannot be."""
    if not blackout.name.strip() or len(blackout.name) > 80:
        raise BadValue("The black-out has no name, or a long one.", "Say what it is for.", field="name")
    begins, ends = span_of(blackout)
    if ends <= begins:
        raise BadValue(f"It ends at {blackout.ends}, before it begins.", "Give a later end.", field="ends")


def span_of(blackout: Blackout) -> tuple[datetime, datetime]:
    """Begin and end in UTC. Raises BadValue."""
    zone = zone_of(blackout.time_zone, "time_zone")
    return (
        local(blackout.begins, "begins").replace(tzinfo=zone).astimezone(UTC),
        local(blackout.ends, "ends").replace(tzinfo=zone).astimezone(UTC),
    )


def occurrences(
    drill: Drill, since: datetime, until: datetime, blackouts: Sequence[Blackout] = ()
) -> Iterator[Occurrence]:
    """Times of a drill from ``since`` (in it) to ``until`` (not in it), in order, left-out ones included."""
    zone, spans = ZoneInfo(drill.time_zone), [(one, *span_of(one)) for one in blackouts]
    # A day more at both ends: local times are up to that far from UTC.
    first = since.astimezone(zone).replace(tzinfo=None) - timedelta(days=1)
    last = min(until, since + timedelta(days=MOST_DAYS)).astimezone(zone).replace(tzinfo=None)
    before: datetime | None = None
    for moment in _rule(drill).between(first, last + timedelta(days=1), inc=True):
        at = moment.replace(tzinfo=zone).astimezone(UTC)
        # Two local times can be one moment: 01:30 that spring does not have, and 02:30.
        if not since <= at < until or at == before:
            continue
        before = at
        why = "left out by hand" if moment.strftime("%Y-%m-%d") in drill.left_out else ""
        for blackout, begins, ends in spans:
            if begins <= at < ends:
                why = f"black-out: {blackout.name}"
        yield Occurrence(at=at, until=at + timedelta(seconds=drill.window_s), left_out=why)


def due_now(drill: Drill, now: datetime, blackouts: Sequence[Blackout] = ()) -> Occurrence | None:
    """The occurrence in whose window ``now`` is, the latest of several; None outside of all."""
    since, until = now - timedelta(seconds=drill.window_s), now + timedelta(seconds=1)
    open_now = [one for one in occurrences(drill, since, until, blackouts) if one.at <= now < one.until]
    return next((one for one in reversed(open_now) if not one.left_out), None)


def next_of(drill: Drill, now: datetime, blackouts: Sequence[Blackout] = ()) -> Occurrence | None:
    """The next occurrence that takes place, within six years; None where there is none."""
    if drill.paused:
        return None
    ahead = occurrences(drill, now, now + timedelta(days=MOST_DAYS), blackouts)
    return next((one for one in ahead if not one.left_out), None)


def zone_of(name: str, field: str) -> ZoneInfo:
    """The time zone of that name. Raises BadValue."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise BadValue(
            f"{name[:40]!r} is no time zone.", "Give one such as Europe/Lisbon.", field=field
        ) from error


def local(text: str, field: str) -> datetime:
    """A local time as it is written here, without a zone. Raises BadValue."""
    try:
        # Without a zone on purpose: it is a time on the wall of the place, which rules are laid out in.
        found = datetime.strptime(text, LOCAL)  # noqa: DTZ007
    except (ValueError, TypeError) as error:
        raise BadValue(
            f"{field} is {str(text)[:40]!r}.", "Give a local time such as 2026-12-01T20:00.", field=field
        ) from error
    if not 2000 <= found.year <= 2200:
        raise BadValue(f"{field} is in the year {found.year}.", "Give a year from 2000 to 2200.", field=field)
    return found


def _rule(drill: Drill):  # type: ignore[no-untyped-def]
    """The rule in local time. Raises BadValue for one that cannot be read or is too often."""
    starts = local(drill.starts, "starts")
    text = drill.rule.strip().removeprefix("RRULE:")
    if not text:
        return rrulestr("FREQ=DAILY;COUNT=1", dtstart=starts)
    example = "Give a rule of RFC 5545 such as FREQ=MONTHLY;BYDAY=1TU."
    if (
        len(text) > 300
        or re.search(r"INTERVAL=0*(;|$)", text.upper())
        or not re.fullmatch(r"[A-Za-z0-9=;,:+\-]+", text)
    ):
        raise BadValue(f"The rule {text[:60]!r} cannot be read.", example, field="rule")
    if any(f"FREQ={often}" in text.upper() for often in _OFTEN):
        raise BadValue("The rule is more often than once a day.", "Use DAILY, WEEKLY, MONTHLY or YEARLY.",
                       field="rule")  # fmt: skip
    if re.search(r"BY(HOUR|MINUTE|SECOND|SETPOS)=", text.upper()) and "BYSETPOS" not in text.upper():
        raise BadValue("The rule names hours.", "The time of day is that of the start.", field="rule")
    try:
        found = rrulestr(_until_local(text, ZoneInfo(drill.time_zone)), dtstart=starts)
        if next(iter(found), None) is None:
            raise BadValue("The rule has no day at all.", example, field="rule")
    except (ValueError, TypeError, AttributeError, IndexError, OverflowError) as error:
        raise BadValue(f"The rule {text[:60]!r} cannot be read.", example, field="rule") from error
    return found


def _until_local(text: str, zone: ZoneInfo) -> str:
    """RFC 5545 gives UNTIL in UTC; the rule is laid out in local time."""

    def in_zone(match: re.Match[str]) -> str:
        moment = datetime.strptime(match[1], "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC)
        return f"UNTIL={moment.astimezone(zone).strftime('%Y%m%dT%H%M%S')}"

    return re.sub(r"UNTIL=(\d{8}T\d{6}Z)", in_zone, text, flags=re.IGNORECASE)
