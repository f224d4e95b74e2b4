"""The drill calendar: schedules, black-outs, drills that start by themselves, what was missed, the feed."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from icalendar import Calendar

from maestoso.engine.clock import SystemClock
from maestoso.server.drills.models import DrillRow, DrillTime
from maestoso.server.drills.services import CALENDAR, begin_due_drills
from maestoso.server.runs.events import read_log
from maestoso.server.runs.models import Run
from tests.server.tidewell import Browser, Tidewell

DRILL = {
    "plan": "HARB", "name": "Weekly", "starts": "2026-01-05T06:30", "time_zone": "Europe/Lisbon",
    "rule": "FREQ=WEEKLY;BYDAY=MO", "window_s": 3600, "lasts_s": 7200, "owner": "infrastructure",
}  # fmt: skip


class At:
    """A clock that stands where it is put."""

    def __init__(self, now: datetime) -> None:
        self.moment = now

    def now(self) -> datetime:
        """Where it stands."""
        return self.moment

    def monotonic(self) -> float:
        """Seconds of it."""
        return self.moment.timestamp()


def monday_after(now: datetime) -> datetime:
    """The next time of the drill above, in UTC: 06:30 in Lisbon."""
    local = now.astimezone(ZoneInfo("Europe/Lisbon"))
    days = (local + timedelta(days=ahead) for ahead in range(8))
    times = (day.replace(hour=6, minute=30, second=0, microsecond=0) for day in days)
    return next(time for time in times if time.weekday() == 0 and time > local).astimezone(UTC)


class WithDrills(Tidewell):
    """No drill but those that the test makes."""

    def setUp(self) -> None:
        super().setUp()
        DrillRow.objects.all().delete()
        self.browser.get("/api/v1/drills")
        for one in self.calendar()["blackouts"]:
            self.browser.send("DELETE", f"/blackouts/{one['id']}")
        self.now = SystemClock().now()
        self.due = monday_after(self.now)

    def calendar(self) -> Any:
        return self.browser.get("/api/v1/drills").json()

    def make(self, **changes: Any) -> Any:
        """Put the drill on the calendar; returns its line."""
        reply = self.browser.send("POST", "/drills", {**DRILL, **changes})
        self.assertEqual(reply.status_code, 201, reply.content[:400])
        return reply.json()["drills"][-1]

    def keeper_at(self, *moments: datetime) -> None:
        """The keeper looks at each of these moments."""
        for moment in moments:
            begin_due_drills(At(moment))

    def times(self) -> list[tuple[str, str]]:
        return [(row.outcome, row.reason) for row in DrillTime.objects.order_by("at")]


class Scheduling(WithDrills):
    """What is put on the calendar, and what is refused."""

    def test_a_drill_says_in_words_when_it_is_and_when_next(self) -> None:
        line = self.make()
        self.assertEqual(line["in_words"], "Every week on Monday at 06:30 (Europe/Lisbon)")
        self.assertEqual(datetime.fromisoformat(line["next_at"]), self.due)
        self.assertIn("the next is Weekly of Harbour core first", self.calendar()["sentence"])

    def test_a_schedule_is_tried_before_it_is_saved(self) -> None:
        tried = self.browser.send("POST", "/drills/try", {**DRILL, "rule": "FREQ=MONTHLY;BYDAY=-1FR"}).json()
        self.assertEqual(tried["in_words"], "On the last Friday of every month at 06:30 (Europe/Lisbon)")
        self.assertEqual(len(tried["next"]), 6)
        self.assertEqual(self.calendar()["drills"], [])

    def test_what_cannot_be_is_refused_by_field(self) -> None:
        wrong = {
            "rule": "FREQ=HOURLY", "starts": "soon", "time_zone": "Atlantis/Deep", "window_s": 3, "name": "",
            "remind_days": 99, "left_out": ["x"],
        }  # fmt: skip
        for field, value in wrong.items():
            with self.subTest(field):
                body = self.problem(
                    self.browser.send("POST", "/drills", {**DRILL, field: value}), 400, "bad-value"
                )
                self.assertIn(field, body["field"])
        self.problem(self.browser.send("POST", "/drills", {**DRILL, "plan": "NOPE"}), 404, "not-found")
        self.assertEqual(self.calendar()["drills"], [])

    def test_two_people_who_change_a_drill_at_once_are_told(self) -> None:
        pk = self.make()["id"]
        first = self.browser.send("PUT", f"/drills/{pk}", {**DRILL, "name": "One"}, **{"If-Match": '"1"'})
        self.assertEqual(first.json()["drills"][0]["revision"], 2)
        second = self.browser.send("PUT", f"/drills/{pk}", {**DRILL, "name": "Two"}, **{"If-Match": '"1"'})
        self.problem(second, 412, "stale")
        self.assertEqual(self.browser.send("DELETE", f"/drills/{pk}").json()["drills"], [])
        self.problem(self.browser.send("DELETE", f"/drills/{pk}"), 404, "not-found")

    def test_a_black_out_leaves_its_times_out_and_says_so(self) -> None:
        self.make()
        begins = (self.due - timedelta(hours=2)).strftime("%Y-%m-%dT%H:%M")
        body = {"name": "Regatta", "begins": begins, "ends": begins, "time_zone": "UTC"}
        self.problem(self.browser.send("POST", "/blackouts", body), 400, "bad-value")
        body["ends"] = (self.due + timedelta(hours=2)).strftime("%Y-%m-%dT%H:%M")
        self.browser.send("POST", "/blackouts", body)
        line = self.calendar()["drills"][0]
        self.assertEqual(
            (line["times"][0]["state"], line["times"][0]["reason"]), ("left-out", "black-out: Regatta")
        )
        self.assertEqual(datetime.fromisoformat(line["next_at"]) - self.due, timedelta(days=7))
        self.keeper_at(self.due + timedelta(minutes=1), self.due + timedelta(hours=2))
        self.assertEqual(self.times(), [])


class Beginning(WithDrills):
    """Drills that start by themselves, once each; what nobody started is missed."""

    def test_a_due_drill_starts_by_itself_once_as_a_test_that_ends_by_itself(self) -> None:
        self.make(starts_itself=True)
        at = self.due + timedelta(minutes=1)
        self.keeper_at(
            self.due - timedelta(minutes=1), at, at + timedelta(minutes=1), at + timedelta(minutes=2)
        )
        run = Run.objects.get()
        self.assertEqual((run.kind, run.plan_code, run.started_by), ("test", "HARB", CALENDAR))
        self.assertEqual(self.times(), [("done", "")])
        inputs = read_log(run.pk)[0].data["inputs"]
        self.assertTrue(inputs["unattended"])
        self.assertEqual(datetime.fromisoformat(inputs["cleanup_at"]) - at, timedelta(seconds=7200))

    def test_it_is_tried_again_within_its_window_when_something_is_in_the_way(self) -> None:
        self.make(starts_itself=True)
        body = {"plan": "HARB", "options": {"pace": 20}}
        other = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "x"}).json()["id"]
        at = self.due + timedelta(minutes=1)
        self.keeper_at(at)
        self.assertIn("still at work", self.times()[0][1])
        Run.objects.filter(pk=other).update(outcome="passed")
        self.keeper_at(at + timedelta(minutes=10))
        self.assertEqual(self.times(), [("done", "")])

    def test_what_could_not_start_in_its_window_is_missed_with_the_reason(self) -> None:
        from maestoso.server.crosswalks.models import CrosswalkRow
        from maestoso.server.estate.snapshot import mark_changed

        self.make(starts_itself=True)
        CrosswalkRow.objects.all().delete()
        mark_changed()
        self.keeper_at(self.due + timedelta(minutes=1), self.due + timedelta(hours=2))
        ((outcome, reason),) = self.times()
        self.assertEqual(outcome, "missed")
        self.assertIn("could not start", reason)
        self.assertEqual(Run.objects.count(), 0)

    def test_a_test_that_somebody_started_in_the_window_counts(self) -> None:
        self.make()
        self.keeper_at(self.due + timedelta(minutes=1))
        self.assertEqual(self.times(), [("", "")])
        board = self.browser.get("/api/v1/readiness").json()["actions"]
        self.assertIn("Weekly of Harbour core first is due now", [one["title"] for one in board])
        body = {"plan": "HARB", "options": {"pace": 20}}
        pk = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "x"}).json()["id"]
        Run.objects.filter(pk=pk).update(started_at=self.due + timedelta(minutes=5))
        self.keeper_at(self.due + timedelta(minutes=10))
        self.assertEqual(DrillTime.objects.get().run_id, pk)

    def test_what_nobody_started_is_missed_and_stands_on_the_board(self) -> None:
        self.make()
        self.keeper_at(self.due + timedelta(hours=2))
        ((outcome, reason),) = self.times()
        self.assertEqual((outcome, reason), ("missed", "Nobody started a test of the plan in its time."))
        board = self.browser.get("/api/v1/readiness").json()["actions"]
        self.assertIn("Weekly of Harbour core first was missed", [one["title"] for one in board])
        body = {"plan": "HARB", "options": {"pace": 20}}
        pk = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "x"}).json()["id"]
        Run.objects.filter(pk=pk).update(started_at=self.due + timedelta(hours=3), outcome="passed")
        board = self.browser.get("/api/v1/readiness").json()["actions"]
        self.assertNotIn("Weekly of Harbour core first was missed", [one["title"] for one in board])

    def test_one_that_failed_stands_on_the_board_until_the_plan_passes_a_test(self) -> None:
        def board() -> list[tuple[str, str]]:
            found = self.browser.get("/api/v1/readiness").json()["actions"]
            return [(one["title"], one["to"]) for one in found if one["code"].startswith("drill-")]

        self.make(starts_itself=True)
        self.keeper_at(self.due + timedelta(minutes=1))
        run = Run.objects.get()
        self.assertEqual(board(), [])
        Run.objects.update(outcome="failed")
        self.assertEqual(board(), [("Weekly of Harbour core first failed", f"/runs/{run.pk}")])
        Run.objects.update(outcome="aborted")
        self.assertIn("ended without a pass: aborted", board()[0][0])
        Run.objects.update(outcome="passed")
        self.assertEqual(board(), [])

    def test_a_keeper_that_was_away_notes_every_time_that_passed(self) -> None:
        self.make(starts_itself=True)
        self.keeper_at(self.due + timedelta(days=15))
        self.assertEqual([outcome for outcome, _ in self.times()], ["missed"] * 3)
        self.assertIn("not at work", self.times()[0][1])

    def test_a_paused_drill_neither_starts_nor_misses(self) -> None:
        self.make(starts_itself=True, paused=True)
        self.keeper_at(self.due + timedelta(minutes=1), self.due + timedelta(days=1))
        self.assertEqual(self.times(), [])
        self.assertIsNone(self.calendar()["drills"][0]["next_at"])

    def test_a_change_of_the_rule_loses_no_time_that_came_before_it(self) -> None:
        pk = self.make()["id"]
        DrillRow.objects.filter(pk=pk).update(looked_until=self.now - timedelta(days=8))
        changed = {**DRILL, "rule": "FREQ=YEARLY"}
        self.browser.send("PUT", f"/drills/{pk}", changed, **{"If-Match": '"1"'})
        self.assertGreaterEqual(len(self.times()), 1)

    def test_the_autumn_hour_starts_it_once(self) -> None:
        """01:30 in Lisbon comes twice on the last Sunday of October."""
        pk = self.make(starts_itself=True, starts="2026-01-04T01:30", rule="FREQ=DAILY")["id"]
        night = datetime(2027, 10, 31, 0, 30, tzinfo=UTC)
        DrillRow.objects.filter(pk=pk).update(looked_until=night - timedelta(hours=1))
        self.keeper_at(*(night + timedelta(minutes=10 * step) for step in range(14)))
        self.assertEqual(Run.objects.count(), 1)
        self.assertEqual(DrillTime.objects.get().at, night)


class TheFeed(WithDrills):
    """iCalendar, as a file and at a private address."""

    def test_the_file_says_rule_zone_duration_and_what_is_left_out(self) -> None:
        day = self.due.strftime("%Y-%m-%d")
        self.make(left_out=[day], starts_itself=True)
        reply = self.browser.get("/api/v1/drills/calendar.ics")
        self.assertEqual(reply.headers["Content-Type"], "text/calendar; charset=utf-8")
        made = Calendar.from_ical(reply.content)
        (event,) = made.walk("VEVENT")
        self.assertEqual(event["RRULE"].to_ical(), b"FREQ=WEEKLY;BYDAY=MO")
        self.assertEqual(str(event["SUMMARY"]), "Drill: Harbour core first (Weekly)")
        self.assertEqual(event["DTSTART"].params["TZID"], "Europe/Lisbon")
        self.assertEqual([zone["TZID"] for zone in made.walk("VTIMEZONE")], ["Europe/Lisbon"])
        self.assertIn(self.due.strftime("%Y%m%dT"), event["EXDATE"].to_ical().decode())
        self.assertEqual(len(event.walk("VALARM")), 1)

    def test_only_who_knows_the_address_reads_it_and_a_new_one_ends_the_old(self) -> None:
        self.make()
        stranger = Browser()
        self.assertEqual(stranger.get("/calendar/guess.ics").status_code, 404)
        old = self.browser.send("POST", "/drills/feed").json()["feed"]
        self.assertEqual(stranger.get(old).status_code, 200)
        self.assertIn(b"BEGIN:VEVENT", stranger.get(old).content)
        self.assertEqual(stranger.generic("POST", old, "").status_code, 403)
        new = self.browser.send("POST", "/drills/feed").json()["feed"]
        self.assertEqual((stranger.get(old).status_code, stranger.get(new).status_code), (404, 200))
        self.browser.send("DELETE", "/drills/feed")
        self.assertEqual(stranger.get(new).status_code, 404)

    def test_a_paused_drill_is_not_in_it(self) -> None:
        self.make(paused=True)
        self.assertNotIn(b"VEVENT", self.browser.get("/api/v1/drills/calendar.ics").content)
