"""Rules of recurrence as people say them."""

from __future__ import annotations

from django.test import SimpleTestCase

from maestoso.core.drills.schedule import Drill
from maestoso.server.drills.words import in_words


class InWords(SimpleTestCase):
    """What can be said plainly is; what cannot stays a rule, which is never wrong."""

    def said(self, rule: str) -> str:
        drill = Drill(plan="P", name="n", starts="2026-01-06T20:30", time_zone="Europe/Lisbon", rule=rule)
        return in_words(drill).replace(" at 20:30 (Europe/Lisbon)", "")

    def test_rules_that_people_choose(self) -> None:
        cases = {
            "": "Once, on 6 January 2026",
            "FREQ=DAILY": "Every day",
            "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TH": "Every 2 weeks on Monday and Thursday",
            "FREQ=MONTHLY;BYDAY=1TU": "On the first Tuesday of every month",
            "FREQ=MONTHLY;INTERVAL=3;BYDAY=-1FR": "On the last Friday of every 3 months",
            "FREQ=YEARLY": "Every year",
            "RRULE:FREQ=DAILY;COUNT=5": "Every day, 5 times",
            "FREQ=WEEKLY;UNTIL=20261231T000000Z": "Every week, until 2026-12-31",
        }
        for rule, words in cases.items():
            with self.subTest(rule):
                self.assertEqual(self.said(rule), words)

    def test_what_has_no_plain_words_stays_a_rule(self) -> None:
        for rule in ("FREQ=MONTHLY;BYMONTHDAY=1,15", "FREQ=YEARLY;BYDAY=20MO", "FREQ=MONTHLY;BYDAY=5MO"):
            with self.subTest(rule):
                self.assertEqual(self.said(rule), f"By the rule {rule}")
