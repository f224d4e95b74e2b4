"""Several things at one moment: what a step of the engine finds that was away, or slow."""

from __future__ import annotations

import random
import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.model.cue import Cue, Hold
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import fold
from tests import worlds
from tests.player import Player


def with_holds(*holds: Cue) -> RunInputs:
    """The plan of the shop with a hold each before the workloads of its first wave."""
    plan = worlds.plan()
    first, *rest = plan.waves
    members = [replace(one, cues=(cue,)) for one, cue in zip(first.members, holds, strict=False)]
    waves = (replace(first, members=(*members, *first.members[len(members) :])), *rest)
    return worlds.inputs(worlds.context(plan=replace(plan, waves=waves)))


def hold(name: str, limit_s: int, then: str = "stop") -> Cue:
    """A hold that is not waited for for ever."""
    asked = Hold(instruction="Call the office.", limit_s=limit_s, then=then)  # type: ignore[arg-type]
    return Cue(id=name, title=f"Ask {name}", hold=asked)


class AtOnce(unittest.TestCase):
    """One decision at a moment at which several were due."""

    def assert_sound(self, play: Player) -> None:
        """The log can be read, and says what the state is."""
        self.assertEqual(fold(play.log).steps, play.state.steps)

    def answers(self, play: Player, *steps: str) -> None:
        """Several steps end well before anything is decided."""
        for step in steps:
            event = play.state.event(Draft(kind="step.done", data={"step": step, "result": {}}), play.now)
            play.state.apply(event)
            play.log.append(event)
        play.go()

    def test_many_answers_are_taken_in_before_the_next_decision(self) -> None:
        play = Player()
        self.answers(play, *sorted(play.state.in_flight))
        self.assertTrue(play.state.in_flight)
        self.assert_sound(play)
        play.until("power-on:db")

    def test_answers_in_any_order_and_number_lead_to_the_same_end(self) -> None:
        ends = set()
        for seed in range(20):
            chance, play = random.Random(seed), Player()
            for _ in range(400):
                flying = sorted(play.state.in_flight)
                if "verdict" in play.state.persons:
                    break
                if flying:
                    self.answers(play, *chance.sample(flying, chance.randint(1, len(flying))))
                else:
                    play.go(5.0)
            play.tell("verdict", verdict="passed", text="")
            play.to_the_end()
            self.assert_sound(play)
            ends.add(tuple(sorted((name, one.status) for name, one in play.state.steps.items())))
        self.assertEqual(len(ends), 1)

    def test_an_unattended_test_whose_boot_delay_and_end_passed_while_nobody_decided(self) -> None:
        ends = worlds.NOW + timedelta(hours=2)
        play = Player(replace(worlds.inputs(), unattended=True, cleanup_at=ends))
        play.until("open-wave:2")
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        self.assertEqual(play.status("power-on:app"), "waiting")
        play.go(3 * 3600)  # the engine was away
        self.assert_sound(play)
        self.assertIsNotNone(play.state.aborted_because)

    def test_two_holds_that_nobody_answered_in_time_and_one_of_them_aborts(self) -> None:
        for one, two in (("go-on", "abort"), ("abort", "go-on")):
            play = Player(with_holds(hold("one", 60, one), hold("two", 60, two)))
            play.until("hold:one")
            play.until("hold:two")
            play.go(120)
            self.assert_sound(play)
            self.assertIsNotNone(play.state.aborted_because)

    def beside_a_hold(self, then: str) -> Player:
        """A hold ends just when a boot does, behind which a check would begin."""
        play = Player(with_holds(hold("one", 600, then)))
        play.until("hold:one")
        play.until("await-heartbeat:queue")
        play.now += timedelta(seconds=1200)
        self.answers(play, *sorted(play.state.in_flight))
        self.assert_sound(play)
        return play

    def test_a_hold_that_ends_in_an_abort_beside_an_answer_that_opens_a_step(self) -> None:
        play = self.beside_a_hold("abort")
        self.assertEqual(play.status("probe-service:queue:queue-service"), "cancelled")

    def test_a_hold_that_ends_in_holding_the_run_beside_an_answer_that_opens_a_step(self) -> None:
        play = self.beside_a_hold("stop")
        self.assertIsNotNone(play.state.held_because)
        self.assertEqual(play.status("probe-service:queue:queue-service"), "waiting")

    def test_what_is_started_at_the_moment_that_stops_the_run_is_not_started(self) -> None:
        plan = worlds.plan()
        first = tuple(replace(one, on_failure="stop") for one in plan.waves[0].members)
        stops = replace(plan, waves=(replace(plan.waves[0], members=first), *plan.waves[1:]))
        play = Player(worlds.inputs(worlds.context(plan=stops)))
        play.until("power-on:db")
        before = set(play.state.in_flight)
        events = [
            Draft(kind="step.failed", data={"step": "power-on:db", "code": "broken", "reason": "It broke."}),
            Draft(kind="step.done", data={"step": "power-on:queue", "result": {}}),
        ]
        for draft in events:
            event = play.state.event(draft, play.now)
            play.state.apply(event)
            play.log.append(event)
        play.go()
        self.assertIsNotNone(play.state.held_because)
        self.assertEqual(play.state.in_flight - before, set())


if __name__ == "__main__":
    unittest.main()
