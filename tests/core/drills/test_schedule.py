"""When drills are due: local time, the changes of clocks, black-outs and bad rules."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from maestoso.core.drills.schedule import (
    Blackout,
    Drill,
    check_blackout,
    check_drill,
    due_now,
    next_of,
    occurrences,
)
from maestoso.core.errors import BadValue

DAILY = Drill(
    plan="BOOK", name="Nightly", starts="2026-10-20T02:30", time_zone="Europe/Berlin", rule="FREQ=DAILY"
)
ZONES = ("Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "UTC")


def utc(text: str) -> datetime:
    """A moment."""
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def times(drill: Drill, since: str, until: str, *blackouts: Blackout) -> list[str]:
    """The occurrences that take place."""
    found = occurrences(drill, utc(since), utc(until), blackouts)
    return [one.at.strftime("%m-%d %H:%M") for one in found if not one.left_out]


class Clocks(unittest.TestCase):
    """A wall clock that is changed neither swallows a drill nor doubles it."""

    def test_the_hour_that_comes_twice_in_autumn_counts_once(self) -> None:
        found = times(DAILY, "2026-10-24", "2026-10-27")
        self.assertEqual(found, ["10-24 00:30", "10-25 00:30", "10-26 01:30"])

    def test_the_hour_that_spring_does_not_have_is_not_lost(self) -> None:
        found = times(DAILY, "2027-03-27", "2027-03-30")
        self.assertEqual(found, ["03-27 01:30", "03-28 01:30", "03-29 00:30"])

    @given(
        zone=st.sampled_from(ZONES), hour=st.integers(0, 23), minute=st.sampled_from([0, 15, 30, 45]),
        start=st.integers(0, 700),
    )  # fmt: skip
    @settings(max_examples=60)
    def test_a_daily_drill_takes_place_once_on_every_local_day(
        self, zone: str, hour: int, minute: int, start: int
    ) -> None:
        day = datetime.fromisoformat("2026-01-01") + timedelta(days=start)
        drill = replace(DAILY, time_zone=zone, starts=f"2025-12-01T{hour:02}:{minute:02}")
        since, until = (
            (day + timedelta(days=n)).replace(tzinfo=ZoneInfo(zone)).astimezone(UTC) for n in (0, 10)
        )
        found = [one.at for one in occurrences(drill, since, until)]
        local_days = [at.astimezone(ZoneInfo(zone)).date() for at in found]
        self.assertEqual(local_days, [(day + timedelta(days=n)).date() for n in range(10)])
        self.assertEqual(found, sorted(set(found)))

    @given(cuts=st.lists(st.integers(0, 20_000), max_size=12))
    @settings(max_examples=40)
    def test_however_time_is_cut_up_every_occurrence_is_seen_once(self, cuts: list[int]) -> None:
        begin, end = utc("2026-10-20"), utc("2026-11-03")
        marks = sorted(
            {begin, end, *(begin + timedelta(minutes=m) for m in cuts if begin + timedelta(minutes=m) < end)}
        )
        pieces = [one for a, b in zip(marks, marks[1:], strict=False) for one in occurrences(DAILY, a, b)]
        self.assertEqual(pieces, list(occurrences(DAILY, begin, end)))


class Rules(unittest.TestCase):
    """Rules of RFC 5545."""

    def test_usual_rules_give_their_days(self) -> None:
        first_tuesday = replace(DAILY, rule="FREQ=MONTHLY;BYDAY=1TU", starts="2026-10-01T20:00")
        self.assertEqual(
            times(first_tuesday, "2026-10-01", "2027-01-01"), ["10-06 18:00", "11-03 19:00", "12-01 19:00"]
        )
        quarterly = replace(DAILY, rule="RRULE:FREQ=MONTHLY;INTERVAL=3;COUNT=2", starts="2026-10-20T09:00")
        self.assertEqual(times(quarterly, "2026-10-01", "2028-01-01"), ["10-20 07:00", "01-20 08:00"])
        until = replace(DAILY, rule="FREQ=DAILY;UNTIL=20261022T003000Z")
        self.assertEqual(len(times(until, "2026-10-01", "2027-01-01")), 3)
        self.assertEqual(len(times(replace(DAILY, rule=""), "2026-10-01", "2027-01-01")), 1)

    def test_what_cannot_be_is_refused_by_field(self) -> None:
        bad = (
            ({"rule": "FREQ=HOURLY"}, "rule"), ({"rule": "every tuesday"}, "rule"), ({"rule": "FREQ="}, "rule"),
            ({"rule": "FREQ=DAILY;BYHOUR=3,4"}, "rule"), ({"rule": "FREQ=YEARLY;BYMONTHDAY=77"}, "rule"),
            ({"rule": "FREQ=DAILY;INTERVAL=0"}, "rule"), ({"rule": "X" * 400}, "rule"),
            ({"time_zone": "Mars/Base"}, "time_zone"), ({"time_zone": "../etc"}, "time_zone"),
            ({"starts": "tomorrow"}, "starts"), ({"starts": "0001-01-01T00:00"}, "starts"),
            ({"window_s": 0}, "window_s"), ({"lasts_s": 10**9}, "lasts_s"), ({"name": " "}, "name"),
            ({"left_out": ("2026-13-01",)}, "left_out"),
        )  # fmt: skip
        for change, field in bad:
            with self.assertRaises(BadValue, msg=str(change)) as caught:
                check_drill(replace(DAILY, **change))
            self.assertEqual(caught.exception.field, field, change)
        check_drill(DAILY)

    def test_black_outs_and_days_left_out_say_why(self) -> None:
        freeze = Blackout(
            name="Year end", begins="2026-10-21T00:00", ends="2026-10-23T00:00", time_zone="Europe/Berlin"
        )
        check_blackout(freeze)
        drill = replace(DAILY, left_out=("2026-10-24",))
        found = list(occurrences(drill, utc("2026-10-20"), utc("2026-10-26"), [freeze]))
        self.assertEqual(
            [one.left_out for one in found],
            ["", "black-out: Year end", "black-out: Year end", "", "left out by hand", ""],
        )
        self.assertEqual(next_of(drill, utc("2026-10-20T12:00"), [freeze]), found[3])
        with self.assertRaises(BadValue):
            check_blackout(replace(freeze, ends="2026-10-20T00:00"))

    def test_a_drill_is_due_in_its_window_and_not_when_paused_or_over(self) -> None:
        at = utc("2026-10-21T00:30")
        self.assertEqual(due_now(DAILY, at).at, at)  # type: ignore[union-attr]
        self.assertIsNotNone(due_now(DAILY, at + timedelta(hours=3, minutes=59)))
        self.assertIsNone(due_now(DAILY, at + timedelta(hours=4)))
        self.assertIsNone(due_now(DAILY, at - timedelta(seconds=1)))
        self.assertIsNone(next_of(replace(DAILY, paused=True), at))
        self.assertIsNone(next_of(replace(DAILY, rule="FREQ=DAILY;COUNT=2"), utc("2026-11-01")))


if __name__ == "__main__":
    unittest.main()
