"""How a run stands, in sentences: each is so in the state that it is made from."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.model.plan import Member
from maestoso.core.planning.inputs import Kind
from maestoso.core.runs.events import Draft
from maestoso.core.runs.progress import came_from, measures
from maestoso.core.runs.standing import Backlog, Kept, Standing, abort_does, standing, writable
from maestoso.core.runs.state import RunState
from maestoso.core.runs.whereabouts import fenced, taken_down
from tests import worlds
from tests.player import Player

NAMES = {"A": "Eastside", "B": "Westside"}


def said(play: Player, *kept: Kept, backlog: Backlog | None = None) -> Standing:
    """The sentences at the top of a run."""
    return standing(play.state, NAMES, kept, backlog)


class Tests(unittest.TestCase):
    def test_in_every_phase(self) -> None:
        play = Player()
        self.assertEqual(said(play).lead, "Copies of Shop are being prepared in a sandbox at Westside.")
        play.until("power-on:db")
        self.assertEqual(said(play).lead, "Shop is coming up in a sandbox at Westside.")
        self.assertIn("Production at Eastside is not touched. The copies are from points", said(play).under)
        play.until("verdict")
        self.assertIn("waits for your verdict", said(play).lead)
        play.tell("verdict", verdict="passed")
        self.assertIn("is being cleaned up", said(play).lead)
        play.to_the_end()
        self.assertEqual(said(play).lead, "The test of Shop passed and is cleaned up.")
        self.assertIn("Production at Eastside was not touched. The copies were from", said(play).under)

    def test_one_that_copies_first_has_copies_of_that_moment(self) -> None:
        play = Player(worlds.inputs(sync_first=True))
        self.assertEqual(came_from(play.state, play.state.inputs.groups[0]), worlds.POINT.at)
        at = worlds.NOW + timedelta(seconds=40)
        play.write(
            Draft(
                kind="step.done", data={"step": "sync:shop", "result": {"point": "p", "at": at.isoformat()}}
            )
        )
        self.assertEqual(came_from(play.state, play.state.inputs.groups[0]), at)
        self.assertEqual(measures(play.state).rpo_s, {"shop": 0.0})
        self.assertIn("at most 0 s old", said(play).under)


class Failovers(unittest.TestCase):
    def play(self, kind: Kind = "planned", **choices: object) -> Player:
        return Player(worlds.live_inputs(kind, **choices))

    def skip_source(self, play: Player) -> None:
        """The source says nothing: what it was asked is given up, and acknowledged."""
        play.go(10_000)
        play.until("acknowledge")

    def test_on_the_way_it_is_counted_what_is_fenced(self) -> None:
        play = self.play()
        play.until("fence:web")
        play.until("fence:db")
        off = sum(1 for name in worlds.NAMES if play.status(f"fence:{name}") == "done")
        self.assertIn(f"{off} of 4 are fenced at Eastside, not up there yet", said(play).lead)
        flying = sorted(name for name in play.state.in_flight if name.startswith("fence:"))
        play.done(flying[0])
        self.assertIn(f"{off + 1} of 4 are fenced at Eastside", said(play).lead)
        play.until("promote:shop")
        self.assertIn("fenced at Eastside, not up there yet", said(play).lead)
        self.assertEqual(writable(play.state, "shop"), "")
        self.assertEqual(
            said(play).under,
            "Nothing is lost: what Eastside wrote last was copied after it was off and fenced. "
            "Until commit, all of it can go back.",
        )

    def test_a_disaster_with_nothing_fenced_does_not_say_fenced(self) -> None:
        play = self.play("disaster")
        self.skip_source(play)
        play.tell("answer", step="acknowledge")
        play.until("promote:shop")
        self.assertIn("nothing is fenced at Eastside", said(play).lead)
        self.assertIn("Work of at most", said(play).under)
        kept = [Kept(workload=name, delivered=False) for name in worlds.NAMES]
        (notice,) = said(play, *kept).notices
        self.assertEqual(
            notice,
            "4 copies at Eastside are not confirmed off (db, queue, app, web). Their fences are kept, and "
            "delivered when it answers.",
        )

    def test_a_disaster_whose_source_answered_lost_nothing_and_its_copies_are_of_that_moment(self) -> None:
        play = self.play("disaster")
        play.until("final-sync:shop")
        at = play.now + timedelta(seconds=30)
        done = {"step": "final-sync:shop", "result": {"point": "shop@1", "at": at.isoformat()}}
        play.write(Draft(kind="step.done", data=done))
        play.until("decision")
        self.assertTrue(said(play).under.startswith("Nothing is lost:"))
        self.assertEqual(came_from(play.state, play.state.inputs.groups[0]), at)
        self.assertEqual(said(play).notices, ())

    def test_a_source_that_was_left_alone_on_purpose_is_said_so(self) -> None:
        play = self.play("disaster", close_down=False)
        play.until("acknowledge")
        play.tell("answer", step="acknowledge")
        play.until("decision")
        (notice,) = said(play).notices
        self.assertEqual(
            notice, "Nothing at Eastside was touched, as it was chosen: what runs there is not confirmed off."
        )
        play.tell("commit")
        play.until("give-up:run")
        self.assertEqual(len(fenced(play.state)), 0)
        play.done("give-up:run")
        self.assertEqual((said(play).notices, len(fenced(play.state))), ((), 4))
        self.assertEqual(taken_down(play.state), set(worlds.NAMES))

    def test_what_is_up_is_counted(self) -> None:
        play = self.play()
        play.until("power-on:web")
        play.fail("power-on:web")
        play.tell("skip", step="power-on:web", text="No need.")
        play.until("decision")
        self.assertEqual(
            said(play).lead,
            "3 of 4 workloads of Shop are up at Westside. Look at it, then commit or roll back.",
        )

    def test_a_lost_site_is_said_with_what_waits_for_it(self) -> None:
        play = self.play()
        play.until("promote:shop")
        play.write(Draft(kind="site.lost", data={"site": "B", "reason": "No connection."}))
        self.assertEqual(
            said(play).notices,
            (
                "Westside does not answer: No connection. One step waits there, and the run goes on with that "
                "when it is back.",
            ),
        )
        play.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        self.assertIn(
            "Eastside does not answer: No connection. Nothing of this run waits for it now.",
            said(play).notices,
        )

    def test_a_disaster_waits_for_its_source_only_a_moment(self) -> None:
        play = self.play("disaster")
        play.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        (notice,) = said(play).notices
        self.assertIn("waited for only a moment", notice)
        self.assertEqual(writable(play.state, "shop"), "")

    def test_rolled_back_fences_are_lifted_and_it_is_writable_at_home(self) -> None:
        play = self.play()
        play.until("decision")
        self.assertEqual(writable(play.state, "shop"), "B")
        play.tell("roll-back")
        self.assertEqual(said(play).lead, "Shop is going back to Eastside.")
        play.until("lift-fence:db")
        self.assertEqual(writable(play.state, "shop"), "")
        play.to_the_end()
        self.assertEqual(writable(play.state, "shop"), "A")
        self.assertEqual(
            said(play).lead, "The failover of Shop was rolled back; nothing of it was left at Westside."
        )

    def test_what_is_over_is_told_as_past(self) -> None:
        play = self.play("disaster")
        self.skip_source(play)
        play.tell("answer", step="acknowledge")
        play.until("decision")
        play.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        play.tell("commit")
        for _ in range(30):
            play.go(1000)
            for step in sorted(play.state.in_flight):
                play.done(step)
        self.assertEqual(play.state.outcome, "committed")
        self.assertEqual(said(play).lead, "Shop was moved to Westside; the failover was committed.")
        self.assertIn("was lost (Shop allows", said(play).under)
        delivered = [Kept(workload=name, delivered=True) for name in worlds.NAMES]
        self.assertEqual(said(play, *delivered).notices, ())
        since = " What was not confirmed off at Eastside when it ended has been fenced since."
        self.assertEqual(said(play, *delivered).under, said(play).under + since)
        waiting = replace(delivered[0], delivered=False)
        self.assertNotIn("fenced since", said(play, *delivered[1:], waiting).under)

    def test_what_an_abort_does_is_counted_from_what_was_done(self) -> None:
        play = self.play()
        self.assertEqual(abort_does(play.state, NAMES), "Nothing was done to Eastside yet; it ends here.")
        play.until("shut-down:web")
        play.done("shut-down:web")
        self.assertEqual(
            abort_does(play.state, NAMES), "1 workload is started again at Eastside, in their order."
        )
        play.until("decision")
        self.assertEqual(
            abort_does(play.state, NAMES),
            "4 workloads are turned off at Westside and what changed there is discarded; then the copies are "
            "copies again; then 4 workloads are started again at Eastside, in their order.",
        )

    def test_a_member_that_is_left_off_is_not_counted_as_up(self) -> None:
        made = worlds.plan((Member(workload="db"), Member(workload="queue", power_on=False)))
        group = replace(worlds.GROUP, members=("db", "queue"))
        ctx = worlds.context(plan=made, groups=(group,))
        play = Player(worlds.live_inputs("planned", ctx))
        play.until("decision")
        self.assertEqual(said(play).lead, "Shop is up at Westside. Look at it, then commit or roll back.")


class Reprotects(unittest.TestCase):
    def state(self) -> RunState:
        inputs = replace(worlds.live_inputs("planned"), kind="re-protect", live=None)
        return Player(inputs).state

    def test_how_much_is_left_and_for_how_long(self) -> None:
        state = self.state()
        for backlog, text in (
            (None, "What differs in Shop is being found and copied to Westside."),
            (Backlog(left_bytes=2 * 2**30, rate_bps=2**20), "about 34 min to go."),
            (Backlog(left_bytes=2 * 2**30, rate_bps=0.0), "waiting for the link."),
        ):
            with self.subTest(text):
                self.assertIn(text, standing(state, NAMES, (), backlog).lead)


if __name__ == "__main__":
    unittest.main()
