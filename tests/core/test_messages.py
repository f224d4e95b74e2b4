"""What is new, who wants it, when it may be brought, and when it is tried again."""

from __future__ import annotations

import json
import unittest
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.errors import BadValue
from maestoso.core.messages import (
    TOPICS,
    Matter,
    again_in_s,
    filled,
    news,
    read_quiet_hours,
    topic_of,
    usual,
    waits_until,
    wants,
    without_addresses,
)

LISBON = ZoneInfo("Europe/Lisbon")


def matter(about: str, code: str = "site-lost", **more: object) -> Matter:
    """Something on the board."""
    words = {"title": f"{about} does not answer", "sentence": "It is silent.", "to": "/estate/sites"}
    return Matter(code=code, about=about, **(words | more))  # type: ignore[arg-type]


class News(unittest.TestCase):
    def test_what_was_known_is_no_news_whatever_its_words_are_now(self) -> None:
        begun, over = news(
            ["site-lost:QUA", "site-lost:NOR"], [matter("QUA", title="for 5 min"), matter("HIL")]
        )
        self.assertEqual([one.about for one in begun], ["HIL"])
        self.assertEqual(over, ["site-lost:NOR"])

    @given(st.sets(st.sampled_from("abcdef")), st.sets(st.sampled_from("abcdef")))
    def test_whoever_follows_the_news_knows_what_is_so(self, before: set[str], now: set[str]) -> None:
        begun, over = news([matter(one).key for one in before], [matter(one) for one in now])
        known = ({matter(one).key for one in before} | {one.key for one in begun}) - set(over)
        self.assertEqual(known, {matter(one).key for one in now})

    def test_every_topic_has_something_and_every_matter_a_topic(self) -> None:
        self.assertEqual(topic_of("run-needs"), "needs")
        for code in ("run-started", "approval", "link-cut", "group-trouble", "drill-missed", "backup-late"):
            self.assertIn(topic_of(code), TOPICS)


class Whom(unittest.TestCase):
    def test_who_chose_the_topic_who_is_named_and_who_can_answer(self) -> None:
        one = matter("7/hold/x", "run-needs", who=("ada",), told=("ben",))
        self.assertTrue(wants(one, "ada", ()))
        self.assertTrue(wants(one, "ben", ()))
        self.assertTrue(wants(one, "cyd", ["needs"]))
        self.assertFalse(wants(one, "cyd", ["sites"]))

    def test_who_chose_nothing_hears_of_what_they_may_do_something_about(self) -> None:
        self.assertEqual(usual(["see", "read-audit"]), ())
        self.assertEqual(usual(["see", "approve"]), ("approvals",))
        self.assertIn("needs", usual(["see", "answer"]))


class QuietHours(unittest.TestCase):
    def until(
        self, at: str, begins: str = "22:00", ends: str = "06:30", daily: time | None = None, **more: object
    ) -> str:
        """When a message would be brought, on the clock of Lisbon."""
        quiet, now = read_quiet_hours(begins, ends), datetime.fromisoformat(at).replace(tzinfo=LISBON)
        found = waits_until(matter("QUA", **more), "ada", quiet, daily, now.astimezone(UTC), LISBON)
        return found.astimezone(LISBON).strftime("%d %H:%M") if found else "at once"

    def test_they_may_go_over_midnight(self) -> None:
        self.assertEqual(self.until("2026-11-03T21:59"), "at once")
        self.assertEqual(self.until("2026-11-03T22:00"), "04 06:30")
        self.assertEqual(self.until("2026-11-04T06:29"), "04 06:30")
        self.assertEqual(self.until("2026-11-04T06:30"), "at once")
        self.assertEqual(self.until("2026-11-03T13:00", "12:00", "14:00"), "03 14:00")
        self.assertEqual(self.until("2026-11-03T03:00", "", ""), "at once")

    def test_they_end_by_the_clock_on_the_night_it_is_set_back(self) -> None:
        self.assertEqual(self.until("2026-10-24T23:00"), "25 06:30")

    def test_what_one_alone_can_answer_does_not_wait(self) -> None:
        self.assertEqual(self.until("2026-11-03T23:00", who=("ada",)), "at once")
        self.assertEqual(self.until("2026-11-03T23:00", who=("ada", "ben")), "04 06:30")

    def test_what_is_not_urgent_may_come_once_a_day(self) -> None:
        self.assertEqual(self.until("2026-11-03T06:59", "", "", time(7)), "03 07:00")
        self.assertEqual(self.until("2026-11-03T07:00", "", "", time(7)), "04 07:00")
        self.assertEqual(self.until("2026-11-03T12:00", "", "", time(7), urgent=True), "at once")
        self.assertEqual(self.until("2026-11-03T23:00", daily=time(7), urgent=True), "04 06:30")
        self.assertEqual(self.until("2026-11-03T12:00", "", "", time(7), who=("ada",)), "at once")

    def test_what_is_no_time_is_said_by_its_field(self) -> None:
        for begins, ends, field in (("25:00", "06:00", "quiet_from"), ("22:00", "6", "quiet_to"), ("", "06:00", "quiet_from"),
                                    ("22:00", "22:00", "quiet_to")):  # fmt: skip
            with self.assertRaises(BadValue) as caught:
                read_quiet_hours(begins, ends)
            self.assertEqual(caught.exception.field, field)


class Again(unittest.TestCase):
    @given(st.integers(1, 50), st.floats(0, 1))
    def test_the_pause_grows_to_an_hour_and_is_spread(self, tries: int, chance: float) -> None:
        wait = again_in_s(tries, chance)
        self.assertGreaterEqual(wait, 8)
        self.assertLessEqual(wait, 3600 * 1.2)
        self.assertGreaterEqual(again_in_s(tries + 1, chance) + 1e-9, wait)

    def test_it_is_given_up_in_a_day_after_some_thirty_tries(self) -> None:
        at, tries = timedelta(), 0
        while at < timedelta(hours=24):
            tries += 1
            at += timedelta(seconds=again_in_s(tries, 0.5))
        self.assertEqual(tries, 29)


class Words(unittest.TestCase):
    def test_addresses_of_the_estate_are_left_out_and_nothing_else(self) -> None:
        for text, left in (
            ("db-01 is at 10.20.3.4 now", "db-01 is at (an address) now"),
            ("from 10.0.0.0/24 to fd00::12:5.", "from (an address) to (an address)."),
            ("33 min of 30 min, at 12:30:05, release 1.2.3: a.b, ...", "33 min of 30 min, at 12:30:05, release 1.2.3: a.b, ..."),
        ):  # fmt: skip
            self.assertEqual(without_addresses(text), left)

    @given(st.text())
    def test_a_template_is_json_whatever_is_filled_in(self, title: str) -> None:
        made = filled('{"text": "{title}: {link}"}', {"title": title, "link": "https://m.example"})
        self.assertEqual(json.loads(made)["text"], f"{title}: https://m.example")

    def test_a_template_that_cannot_be_filled_is_refused(self) -> None:
        for template, said in (
            ('{"text": "{secret}"}', "names {secret}"),
            ('{"text": {title}}', "is no JSON"),
        ):
            with self.assertRaisesRegex(BadValue, said) as caught:
                filled(template, {"title": "x"})
            self.assertEqual(caught.exception.field, "template")


if __name__ == "__main__":
    unittest.main()
