"""Earlier forecasts beside what happened."""

from __future__ import annotations

import unittest

from maestoso.core.forecast.calibration import Compared, compare, in_words
from tests.player import Player


def took(seconds: float) -> Compared:
    """A run that was expected to take 90 to 130 s."""
    return Compared(p10_s=90.0, p50_s=100.0, p80_s=110.0, p95_s=130.0, took_s=seconds)


class Comparing(unittest.TestCase):
    """From the log of a run."""

    def test_a_run_is_compared_up_to_its_last_check_without_what_people_took(self) -> None:
        player = Player()
        player.tell("hold", text="A moment.")
        while player.state.in_flight:
            player.done(min(player.state.in_flight))
        player.go(1000.0)
        player.tell("resume")
        player.until("verdict")
        made = compare(player.log)
        if made is None or player.state.ready_s is None:
            raise AssertionError("it came to its verdict")
        self.assertLess(made.took_s, player.state.ready_s - 900.0)
        self.assertGreater(made.took_s, 0.0)
        self.assertLess(made.p10_s, made.p95_s)

    def test_what_happens_behind_the_verdict_changes_nothing(self) -> None:
        player = Player()
        player.until("verdict")
        before = compare(player.log)
        player.go(500.0)
        player.tell("verdict", verdict="passed", text="Fine.")
        player.to_the_end()
        self.assertEqual(compare(player.log), before)

    def test_a_run_that_never_came_to_its_last_check_is_not_compared(self) -> None:
        player = Player()
        player.done(min(player.state.in_flight))
        player.tell("abort", text="No.")
        player.to_the_end()
        self.assertIsNone(compare(player.log))


class Words(unittest.TestCase):
    """One sentence for all."""

    def test_nothing_was_run_yet(self) -> None:
        self.assertIn("nobody knows", in_words([]))

    def test_one_run(self) -> None:
        self.assertEqual(
            in_words([took(120.0)]),
            "The only run so far ended inside what was forecast; 20% longer than the middle of the forecast.",
        )
        self.assertIn("did not end inside", in_words([took(200.0)]))

    def test_several_runs(self) -> None:
        self.assertEqual(
            in_words([took(95.0), took(90.0), took(80.0)]),
            "Of 3 runs 2 ended inside what was forecast; half of them took at least 10% shorter than the middle of "
            "the forecast.",
        )

    def test_the_edges_are_inside(self) -> None:
        self.assertTrue(took(90.0).inside and took(130.0).inside)
        self.assertFalse(took(89.9).inside or took(130.1).inside)


if __name__ == "__main__":
    unittest.main()
