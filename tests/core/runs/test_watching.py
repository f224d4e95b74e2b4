"""Outage clocks: what probes from outside saw, and what may be concluded from it."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.planning.inputs import Kind, Probed
from maestoso.core.runs.state import fold
from maestoso.core.runs.watching import noticed, outages, probed_at, probes, watched
from maestoso.core.runs.words import sentence
from tests import worlds
from tests.player import Player

EVERY = frozenset(watched(worlds.live_inputs("planned")))
DB, APP = ("db", "db-service"), ("app", "app-service")


class Watching(unittest.TestCase):
    """What is noticed becomes events, and only when it changes."""

    def play(self, kind: Kind = "planned", **choices: object) -> Player:
        return Player(worlds.live_inputs(kind, **choices))

    def look(
        self,
        play: Player,
        seconds: float,
        a: frozenset[tuple[str, str]] | None,
        b: frozenset[tuple[str, str]] | None,
    ) -> bool:
        """Both sites are asked after some seconds; whether there was anything to write."""
        play.now += timedelta(seconds=seconds)
        draft = noticed(play.state, {"A": a, "B": b})
        if draft is not None:
            play.write(draft)
        return draft is not None

    def test_of_a_test_nothing_is_watched_but_what_was_chosen(self) -> None:
        self.assertEqual(watched(worlds.inputs()), ())
        self.assertTrue(EVERY)
        chosen = worlds.inputs(probed=(Probed(workload="db", service="db-service"),))
        self.assertEqual(watched(chosen), (DB,))
        self.assertEqual(probed_at(chosen), (("B",), chosen.mark))
        self.assertEqual(probed_at(worlds.live_inputs("planned")), (("A", "B"), ""))

    def test_what_the_plan_leaves_off_is_watched_and_away_by_intent(self) -> None:
        made = worlds.plan()
        members = tuple(replace(m, power_on=m.workload != "db") for m in made.waves[0].members)
        off = replace(made, waves=(replace(made.waves[0], members=members), *made.waves[1:]))
        inputs = worlds.live_inputs("planned", worlds.context(plan=off))
        self.assertEqual(set(watched(inputs)), EVERY)
        play = Player(inputs)
        self.look(play, 0, EVERY, frozenset())
        self.look(play, 10, EVERY - {DB, APP}, frozenset())
        self.assertEqual(
            [(one.workload, one.left_off) for one in outages(play.state)], [("db", True), ("app", False)]
        )

    def test_the_first_look_is_written_down_and_then_only_what_changes(self) -> None:
        play = self.play()
        self.assertTrue(self.look(play, 1, EVERY, frozenset()))
        self.assertEqual(
            sentence(play.log[-1], play.state.graph), "Seen from outside, every service answers."
        )
        self.assertFalse(self.look(play, 1, EVERY, frozenset()))
        self.assertTrue(self.look(play, 1, EVERY - {DB}, frozenset()))
        self.assertFalse(self.look(play, 1, EVERY - {DB}, frozenset()))
        self.assertIn("db-service of db", sentence(play.log[-1], play.state.graph))

    def test_an_outage_lasts_until_either_site_has_it_answer(self) -> None:
        play = self.play()
        self.look(play, 0, EVERY, frozenset())
        self.look(play, 10, EVERY - {DB}, frozenset())
        begun = play.state.run_s
        self.look(play, 50, EVERY - {DB}, frozenset({DB}))
        (found,) = outages(play.state)
        self.assertEqual(
            (found.workload, found.service, found.from_s, found.to_s), (*DB, begun, play.state.run_s)
        )
        self.assertEqual(outages(fold(play.log)), (found,))

    def test_a_service_that_is_away_twice_is_one_line_and_its_time_in_between_does_not_count(self) -> None:
        play = self.play()
        for seen in (EVERY, EVERY - {DB}, EVERY, EVERY - {DB}):
            self.look(play, 5, seen, frozenset())
        (one,) = outages(play.state)
        self.assertEqual((one.to_s, one.spells, one.left_off), (None, 2, False))
        first, second = play.state.spells
        self.assertEqual(one.up_s, second.from_s - (first.to_s or 0.0))
        self.look(play, 5, EVERY, frozenset())
        (one,) = outages(play.state)
        lasted = sum((spell.to_s or 0.0) - spell.from_s for spell in play.state.spells)
        self.assertAlmostEqual((one.to_s or 0.0) - one.from_s - one.up_s, lasted)

    def test_the_death_of_the_agent_at_the_target_is_no_outage(self) -> None:
        for kind in ("planned", "disaster"):
            with self.subTest(kind):
                play = self.play(kind)
                self.look(play, 0, frozenset(), EVERY)
                self.assertFalse(self.look(play, 5, frozenset(), None))
                self.assertEqual(outages(play.state), ())

    def test_where_the_first_look_sees_nothing_the_declared_moment_still_counts(self) -> None:
        play = self.play("disaster", declared_at=worlds.NOW - timedelta(minutes=10))
        self.assertFalse(self.look(play, 1, None, None))
        self.look(play, 5, None, frozenset())
        self.assertEqual({one.from_s for one in outages(play.state)}, {-600.0})

    def test_what_nobody_sees_is_marked(self) -> None:
        play = self.play("disaster")
        self.look(play, 1, EVERY, frozenset())
        self.look(play, 5, EVERY - {DB}, frozenset())
        self.look(play, 5, None, frozenset())
        assumed = {one.workload: one.assumed for one in outages(play.state)}
        self.assertEqual(assumed, {"db": False, "queue": True, "app": True, "web": True})

    def test_nothing_is_concluded_from_the_silence_of_a_site_in_a_planned_run(self) -> None:
        play = self.play()
        self.look(play, 0, EVERY, frozenset())
        self.assertFalse(self.look(play, 5, None, frozenset()))
        self.assertTrue(self.look(play, 5, EVERY - {DB}, frozenset()))
        self.assertTrue(self.look(play, 5, None, frozenset({DB})))
        self.assertEqual(play.state.away, {})

    def test_in_a_disaster_what_is_not_seen_is_away_since_it_was_declared(self) -> None:
        play = self.play("disaster", declared_at=worlds.NOW - timedelta(minutes=10))
        self.look(play, 1, None, frozenset())
        self.assertEqual({(one.workload, one.service) for one in outages(play.state)}, EVERY)
        self.assertEqual({one.from_s for one in outages(play.state)}, {-600.0})
        self.look(play, 60, None, frozenset({DB}))
        self.look(play, 60, None, frozenset())
        again = [spell for spell in play.state.spells if spell.service == DB]
        self.assertGreater(again[1].from_s, 0)


if __name__ == "__main__":
    unittest.main()


class ProbesOfATest(unittest.TestCase):
    """What goes on answering in a sandbox, and what breaks off."""

    def setUp(self) -> None:
        services = (
            Probed(workload="db", service="db-service"),
            Probed(workload="app", service="app-service"),
        )
        self.play = Player(worlds.inputs(probed=services))

    def look(self, seconds: float, *answering: tuple[str, str]) -> None:
        """The target is asked after some seconds; the source never is."""
        self.play.now += timedelta(seconds=seconds)
        draft = noticed(self.play.state, {"B": set(answering)})
        if draft is not None:
            self.play.write(draft)

    def test_coming_up_is_no_break_and_what_goes_away_later_is(self) -> None:
        self.look(0)
        self.look(60, DB)
        self.look(10)
        self.look(5, DB)
        self.look(5, DB)
        self.look(20)
        self.look(1, DB)
        db, app = probes(self.play.state)
        self.assertEqual((db.up_s, db.breaks, db.away_s, db.longest_s), (60.0, 2, 6.0, 5.0))
        self.assertEqual((app.up_s, app.breaks, app.until_s, app.seen), (None, 0, None, True))
        self.assertEqual(outages(self.play.state), ())
        self.assertEqual(probes(fold(self.play.log)), (db, app))

    def test_they_end_when_the_test_is_judged_or_aborted(self) -> None:
        self.look(0)
        self.look(60, DB)
        self.look(30)
        self.play.now += timedelta(seconds=10)
        self.play.tell("abort", text="enough")
        self.look(500, DB)
        db = probes(self.play.state)[0]
        self.assertEqual((db.until_s, db.breaks, db.away_s), (100.0, 1, 10.0))

    def test_a_site_that_makes_no_probes_is_no_break(self) -> None:
        self.assertIsNone(noticed(self.play.state, {"B": None}))
        self.assertEqual(
            {(one.seen, one.up_s, one.breaks) for one in probes(self.play.state)}, {(False, None, 0)}
        )
