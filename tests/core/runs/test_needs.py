"""What a run asks people for, and what it says when it does."""

from __future__ import annotations

import unittest
from datetime import timedelta
from typing import Any

from maestoso.core.errors import BadValue, Refused
from maestoso.core.model.cue import Hold
from maestoso.core.model.plan import Member
from maestoso.core.runs.controls import control
from maestoso.core.runs.needs import needs, unconfirmed
from maestoso.core.runs.state import fold
from maestoso.core.runs.words import sentence
from tests import worlds
from tests.player import Player


class Tests(unittest.TestCase):
    """Failures first, then questions, then a run that is held."""

    def test_nothing_is_needed_while_all_goes_well(self) -> None:
        self.assertEqual(needs(Player().state), ())

    def test_a_failure_says_whose_and_why(self) -> None:
        player = Player()
        player.until("await-heartbeat:db")
        player.fail("await-heartbeat:db", reason="No heartbeat came.")
        (need,) = needs(player.state)
        self.assertEqual(
            (need.kind, need.title, need.text),
            ("failure", "db: Guest heartbeat failed", "No heartbeat came."),
        )
        self.assertEqual((need.skippable, need.again), (True, "Restart it"))

    def test_what_must_not_be_skipped_says_so(self) -> None:
        player = Player()
        step = next(name for name in sorted(player.state.in_flight) if not player.state.graph[name].skippable)
        player.fail(step)
        self.assertFalse(needs(player.state)[0].skippable)

    def test_a_hold_says_who_may_answer_and_until_when(self) -> None:
        hold = Hold(instruction="Call the office.", who=("ann", "bob"), limit_s=600, then="stop")
        plan = worlds.with_hold(worlds.plan(), 0, hold=hold)
        player = Player(worlds.inputs(worlds.context(plan=plan)))
        player.until("hold:ask")
        (need,) = needs(player.state)
        self.assertEqual(
            (need.kind, need.text, need.who, need.then), ("hold", "Call the office.", ("ann", "bob"), "stop")
        )
        asked = player.state.steps["hold:ask"].asked_at
        self.assertEqual(need.ends_at, asked + timedelta(seconds=600) if asked else None)

    def holding(self, **more: Any) -> Player:
        """A run that waits for an answer."""
        hold = Hold(instruction="Call the office.", **more)
        player = Player(worlds.inputs(worlds.context(plan=worlds.with_hold(worlds.plan(), 0, hold=hold))))
        player.until("hold:ask")
        return player

    def test_a_hold_may_be_for_whoever_has_a_role(self) -> None:
        player = self.holding(who=("ann", "role:operator"))
        self.assertEqual(needs(player.state)[0].who, ("ann", "whoever is operator"))
        answered = control(player.state, "answer", by="bob", roles=("operator",), step="hold:ask")
        self.assertEqual(answered.kind, "hold.answered")
        with self.assertRaises(Refused) as refused:
            control(player.state, "answer", by="bob", roles=("viewer",), step="hold:ask")
        self.assertIn("answered by ann or whoever is operator; you are bob", refused.exception.sentence)

    def test_two_of_a_role_must_answer_and_one_cannot_answer_twice(self) -> None:
        player = self.holding(who=("role:operator",), answers=2, not_right="Ask the bank.")
        player.tell("answer", step="hold:ask", by="ann", roles=("operator",))
        (need,) = needs(player.state)
        self.assertEqual((need.kind, need.answers, need.agreed), ("hold", 2, ("ann",)))
        with self.assertRaisesRegex(Refused, "You have answered"):
            player.tell("answer", step="hold:ask", by="ann", roles=("operator",))
        with self.assertRaisesRegex(Refused, "is to be answered by whoever is operator"):
            player.tell("answer", step="hold:ask", by="bob", roles=("viewer",))
        # Who looks again because somebody found it not right answers again.
        player.tell("not-right", step="hold:ask", text="No.", by="bob", roles=("operator",))
        self.assertEqual(needs(player.state)[0].agreed, ())
        player.tell("answer", step="hold:ask", by="ann", roles=("operator",))
        player.tell("answer", step="hold:ask", by="bob", roles=("operator",))
        self.assertEqual([need for need in needs(player.state) if need.kind == "hold"], [])
        said = [sentence(event, player.state.graph) for event in player.log if event.kind.startswith("hold.")]
        self.assertEqual(said[0], "ann agreed: Office confirms. It waits for somebody else as well.")
        self.assertEqual(said[-1], "bob answered: Office confirms.")

    def test_what_is_not_right_goes_on_waiting_and_says_what_can_be_done(self) -> None:
        player = self.holding(who=("ann",), limit_s=60, then="go-on", not_right="Ask the bank.")
        since = player.state.steps["hold:ask"].asked_at
        with self.assertRaises(BadValue):
            player.tell("not-right", step="hold:ask")
        with self.assertRaises(Refused):
            player.tell("not-right", step="hold:ask", text="No.", by="bob")
        player.tell("not-right", step="hold:ask", text="The card was refused.", by="ann")
        (need,) = needs(player.state)
        self.assertEqual(
            (need.refused, need.not_right, need.since), ("ann: The card was refused.", "Ask the bank.", since)
        )
        # Nothing happens by itself any more, as little as it said it would.
        self.assertIsNone(need.ends_at)
        self.assertEqual(sentence(player.log[-1], player.state.graph).split(".")[0],
                         "ann: Office confirms is not right; it goes on waiting")  # fmt: skip
        player.tell("answer", step="hold:ask", text="Now it is.", by="ann")
        self.assertEqual(needs(player.state), ())
        self.assertEqual(fold(player.log).steps["hold:ask"].status, "done")

    def test_an_answer_that_the_plan_does_not_offer_is_refused(self) -> None:
        player = self.holding()
        with self.assertRaises(Refused):
            player.tell("not-right", step="hold:ask", text="No.")

    def test_the_verdict_counts_what_has_power(self) -> None:
        plan = worlds.plan((Member(workload="db"), Member(workload="queue", power_on=False)))
        player = Player(worlds.inputs(worlds.context(plan=plan)))
        player.until("verdict")
        (need,) = needs(player.state)
        self.assertEqual(need.title, "The test waits for your verdict")
        self.assertTrue(need.text.startswith("1 copy runs isolated at B."), need.text)

    def test_failures_come_before_what_is_held(self) -> None:
        player = Player()
        player.until("power-on:db")
        player.tell("hold", text="A moment.")
        player.fail("power-on:db")
        self.assertEqual([need.kind for need in needs(player.state)], ["failure", "held"])
        self.assertEqual(needs(player.state)[1].text, "A moment.")


class LiveRuns(unittest.TestCase):
    """What moves production asks more."""

    def test_a_disaster_names_what_nobody_confirmed(self) -> None:
        player = Player(worlds.live_inputs("disaster", close_down=False))
        self.assertEqual(unconfirmed(player.state), worlds.NAMES)
        player.until("acknowledge")
        (need,) = needs(player.state)
        self.assertEqual(need.title, "4 source copies are not confirmed off")
        self.assertIn("db, queue, app, web still run at A", need.text)

    def test_the_decision_says_what_each_answer_does_and_what_happens_without_one(self) -> None:
        inputs = worlds.live_inputs("planned", decide_within_s=900, then="commit", at_commit="re-protect")
        player = Player(inputs)
        player.until("decision")
        self.assertEqual(unconfirmed(player.state), ())
        (need,) = needs(player.state)
        self.assertIn("4 workloads run at B.", need.text)
        self.assertIn("final and begins to copy it back", need.text)
        self.assertEqual(need.then, "commit")
        asked = player.state.steps["decision"].asked_at
        self.assertEqual(need.ends_at, asked + timedelta(seconds=900) if asked else None)


if __name__ == "__main__":
    unittest.main()
