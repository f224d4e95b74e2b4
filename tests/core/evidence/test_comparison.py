"""Comparing two runs of a plan."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.evidence.comparison import LEAST_S, Comparison, StepCompared, compare, usual
from maestoso.core.planning.inputs import Estimate
from tests import worlds
from tests.player import Player

SLOW = "await-heartbeat:db"


def played(slow_s: float = 1.0, **changes: object) -> Player:
    """A test in which the heartbeat of db takes that long."""
    play = Player(replace(worlds.inputs(), **changes))  # type: ignore[arg-type]
    play.until(SLOW)
    while others := sorted(play.state.in_flight - {SLOW}):
        play.done(others[0])
    play.done(SLOW, seconds=slow_s)
    play.until("verdict")
    play.tell("verdict", verdict="passed")
    play.to_the_end()
    return play


def step(found: Comparison, name: str) -> StepCompared:
    """One step of a comparison."""
    return next(one for one in found.steps if one.step == name)


class Comparing(unittest.TestCase):
    """What got slower, what changed, and nothing else."""

    def test_a_run_beside_itself_differs_in_nothing(self) -> None:
        log = played().log
        found = compare(log, log)
        self.assertFalse(any(one.unusual or one.more_s for one in found.steps))
        self.assertEqual((found.plan, found.estate, found.landings), ((), (), ()))
        self.assertIn("as long as before", found.sentence)
        self.assertIn("no step differs by more than its usual spread", found.sentence)

    def test_a_step_beyond_its_usual_spread_comes_first_and_is_called_unusual(self) -> None:
        found = compare(played(30.0).log, played(3000.0).log)
        self.assertEqual(found.steps[0].step, SLOW)
        self.assertTrue(found.steps[0].unusual)
        self.assertAlmostEqual(found.steps[0].more_s, 2970.0, 0)
        self.assertIn("1 step slower than their usual spread explains", found.sentence)
        back = compare(played(3000.0).log, played(30.0).log)
        self.assertIn("1 step faster", back.sentence)

    def test_a_difference_within_the_spread_is_not_unusual(self) -> None:
        low, high = usual(worlds.inputs().estimates[SLOW])
        found = compare(played(low).log, played(high - 0.5).log)
        self.assertFalse(step(found, SLOW).unusual)
        self.assertGreater(step(found, SLOW).more_s, LEAST_S)

    def test_what_was_changed_between_them_is_named(self) -> None:
        plan = worlds.inputs().plan
        first, *rest = plan.waves
        member = replace(first.members[0], delay_s=first.members[0].delay_s + 45)
        changed = replace(plan, waves=(replace(first, members=(member, *first.members[1:])), *rest))
        workloads = tuple(
            replace(one, cores=one.cores + 2) if one.name == "db" else one
            for one in worlds.inputs().workloads
        )
        found = compare(played().log, played(plan=changed, workloads=workloads).log)
        self.assertEqual(len(found.plan), 1)
        self.assertIn(member.workload, found.plan[0])
        self.assertEqual(len(found.estate), 1)
        self.assertIn("db", found.estate[0])

    def test_a_run_that_never_came_up_is_said_to_have_not(self) -> None:
        play = Player()
        play.until(SLOW)
        play.tell("abort", text="enough")
        play.to_the_end()
        self.assertIn("Only one of these runs", compare(play.log, played().log).sentence)
        self.assertIn("Neither of these runs", compare(play.log, play.log).sentence)

    def test_the_usual_span_holds_four_of_five(self) -> None:
        low, high = usual(Estimate(median_s=100.0, sigma=0.25))
        self.assertAlmostEqual(low * high, 100.0**2, 3)
        self.assertAlmostEqual(high, 137.8, 1)
        self.assertEqual(usual(None), (0.0, 0.0))


if __name__ == "__main__":
    unittest.main()
