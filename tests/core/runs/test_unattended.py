"""Tests that nobody attends: they ask no one, judge themselves, and end."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.decide import decide
from tests import worlds
from tests.player import Player

END_S = 3600


def unattended(**changes: object) -> Player:
    """A test that ends by itself after an hour."""
    made = worlds.inputs()
    return Player(
        replace(made, unattended=True, cleanup_at=worlds.NOW + timedelta(seconds=END_S), **changes)  # type: ignore[arg-type]
    )


class Unattended(unittest.TestCase):
    """What a drill that starts by itself does."""

    def test_it_passes_by_itself_when_everything_came_up_in_time(self) -> None:
        play = unattended()
        play.to_the_end()
        self.assertEqual((play.state.outcome, play.state.verdict), ("passed", "passed"))
        self.assertIn("everything came up and answered, in time", play.state.notes)
        self.assertEqual({event.by for event in play.log[1:]}, {"engine"})

    def test_what_fails_is_passed_over_and_the_test_needs_a_look(self) -> None:
        play = unattended()
        play.until("power-on:db")
        play.fail("power-on:db", reason="The host is full.")
        self.assertEqual(play.status("power-on:db"), "skipped")
        play.to_the_end()
        self.assertEqual(play.state.outcome, "inconclusive")
        self.assertIn("needs a look: these did not go well: db: ", play.state.notes)

    def test_what_comes_up_too_late_needs_a_look(self) -> None:
        made = worlds.inputs().plan
        play = unattended(plan=replace(made, rto_s=30))
        play.until("await-heartbeat:db")
        play.done("await-heartbeat:db", seconds=120.0)
        play.to_the_end()
        self.assertEqual(play.state.outcome, "inconclusive")
        self.assertIn("should take 30 s at most", play.state.notes)

    def test_holds_are_answered_in_the_stead_of_people_and_say_so(self) -> None:
        made = worlds.inputs()
        play = unattended(plan=worlds.with_hold(made.plan, 1, title="Ask the bridge"))
        play.to_the_end()
        answered = [event for event in play.log if event.kind == "hold.answered"]
        self.assertEqual(
            [event.data["text"] for event in answered], ["This test runs unattended, so nobody was asked."]
        )
        self.assertEqual(play.state.outcome, "passed")

    def test_what_is_not_up_at_its_end_time_is_taken_away_and_needs_a_look(self) -> None:
        play = unattended()
        play.until("await-heartbeat:db")
        self.assertLessEqual(
            decide(play.state, play.now).wake_at or worlds.NOW + timedelta(days=1),
            worlds.NOW + timedelta(seconds=END_S),
        )
        play.go(END_S + 1)
        self.assertIn("needs a look", play.state.aborted_because or "")
        play.to_the_end()
        self.assertEqual(play.state.outcome, "aborted")
        self.assertEqual(play.status(VERDICT), "cancelled")


if __name__ == "__main__":
    unittest.main()
