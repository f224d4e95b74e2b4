"""Run time at any pace: the figures of a run are those of the same run at pace 1."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.planning.inputs import Kind
from maestoso.core.runs.operations import OperationState
from maestoso.core.runs.progress import measures
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.watching import outages
from maestoso.practice.rehearsal import Rehearsal
from maestoso.sites.contract import Submission
from tests import worlds
from tests.player import Player

SLOW_S = 0.2
"""Wall seconds that our own deciding takes each time; at pace 100 the site works for 20 s meanwhile."""


class AtAnyPace(unittest.TestCase):
    def play(self, kind: Kind, pace: float, slow_s: float = SLOW_S) -> Rehearsal:
        inputs = worlds.inputs() if kind == "test" else worlds.live_inputs(kind)
        there = {"A": worlds.source_world(), "B": worlds.world()}
        rehearsal = Rehearsal(
            "paced", replace(inputs, pace=pace), there, worlds.NOW, "ann", away_s=lambda: slow_s
        )
        state = rehearsal.play(worlds.decide_for("commit"))
        self.assertTrue(state.finished)
        return rehearsal

    def within(self, one: float, other: float, share: float) -> None:
        self.assertLessEqual(abs(one - other), share * max(one, other) + 0.5)

    def test_the_figures_agree_with_those_at_pace_1(self) -> None:
        for kind in ("test", "planned", "disaster"):
            slow = self.play(kind, 1.0).state
            for pace in (20.0, 100.0):
                with self.subTest(kind=kind, pace=pace):
                    quick = self.play(kind, pace).state
                    self.within(measures(quick).rto_s or 0.0, measures(slow).rto_s or 0.0, 0.01)
                    self.within(quick.run_s, slow.run_s, 0.01)
                    for step in slow.graph.steps:
                        mine, theirs = quick.steps[step.id], slow.steps[step.id]
                        self.assertEqual(mine.status, theirs.status)
                        if mine.settled_s is not None and theirs.settled_s is not None:
                            self.within(mine.settled_s, theirs.settled_s, 0.05)
                    lengths = [
                        {one.service: (one.to_s or 0.0) - one.from_s for one in outages(state)}
                        for state in (quick, slow)
                    ]
                    for service, seconds in lengths[0].items():
                        self.within(seconds, lengths[1][service], 0.05)

    def test_what_maestoso_added_is_told_apart(self) -> None:
        ideal = measures(self.play("planned", 1.0, slow_s=0.0).state)
        self.assertLess(ideal.added_s or 0.0, 0.01)
        for pace in (1.0, 100.0):
            with self.subTest(pace):
                found = measures(self.play("planned", pace).state)
                self.within((found.rto_s or 0.0) - (found.added_s or 0.0), ideal.rto_s or 0.0, 0.001)
                self.assertGreater(found.added_s or 0.0, 1.0)

    def test_read_back_from_its_log_it_is_the_same(self) -> None:
        rehearsal = self.play("disaster", 100.0)
        again = fold(rehearsal.log)
        self.assertEqual(measures(again), measures(rehearsal.state))
        self.assertEqual(again.steps, rehearsal.state.steps)


class ABootThatCameToNothing(unittest.TestCase):
    def test_what_had_power_before_it_was_cut_is_not_waited_for_since_then(self) -> None:
        world = worlds.source_world()

        def ask(verb: str, at: float, **args: object) -> OperationState:
            told = Submission(verb=verb, subject="db", run="r", fence=1, args=args)
            return world.submit(f"{verb}@{at}", told, at)

        begun = world.now
        ask("shut-down", begun, limit_s=300, force=True)
        ask("power-on", begun + 500)
        world.advance(begun + 600)
        world.set_dark(True, begun + 5000)
        world.set_dark(False, begun + 5010)
        ask("await-heartbeat", begun + 5040, timeout_s=600)
        world.advance(begun + 6000)
        found = world.operation(f"await-heartbeat@{begun + 5040}")
        assert found is not None
        self.assertEqual((found.status, found.before_s), ("done", 0.0))


class ASilentSite(unittest.TestCase):
    def paced(self, pace: float) -> RunState:
        """A step whose site is silent for a minute on the wall."""
        play = Player(replace(worlds.inputs(), pace=pace))
        play.until("power-on:db")
        asked = play.state.steps["power-on:db"].asked_s or 0.0
        lost = {"site": "B", "reason": "No connection."}
        for kind, data, seconds in (("site.lost", lost, 0), ("site.back", {"site": "B"}, 60)):
            play.now += timedelta(seconds=seconds)
            event = play.state.event(worlds.Draft(kind=kind, data=data), play.now)  # type: ignore[arg-type]
            play.state.apply(event)
        self.took = play.state.run_s - asked
        return play.state

    def test_waiting_for_it_goes_by_the_clock_on_the_wall(self) -> None:
        for pace in (1.0, 100.0):
            with self.subTest(pace):
                self.paced(pace)
                self.assertAlmostEqual(self.took, 60.0, delta=1.0)


if __name__ == "__main__":
    unittest.main()
