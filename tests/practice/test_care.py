"""What a practice site does when it is asked to copy, to stop, to pin: through the verbs, by key."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.estate import Link
from maestoso.core.runs.operations import OperationState
from maestoso.practice.spec import Trouble
from maestoso.sites.contract import Submission
from tests import worlds

NOW = worlds.NOW.timestamp()
MAIL = worlds.workload("mail", 40)
GROUP = replace(worlds.GROUP, code="post", name="Post", members=("mail",))
LINK = Link(one="A", other="B", bandwidth_bps=1_000_000_000)


class Care(unittest.TestCase):
    """On site B, which holds the copies of the shop."""

    def setUp(self) -> None:
        self.world = worlds.world()
        self.at = NOW
        self.asked = 0

    def ask(self, verb: str, subject: str, key: str = "", **args: Any) -> OperationState:
        """Ask for an operation and let it end."""
        self.asked += 1
        key = key or f"k{self.asked}"
        submission = Submission(verb=verb, subject=subject, run="care", fence=1, args=args)
        self.at = max(self.at, self.world.now)
        self.world.submit(key, submission, self.at)
        self.at += 90
        self.world.advance(self.at)
        self.world.care()
        state = self.world.operation(key)
        assert state is not None
        return state

    def protect(self, group: Any = GROUP, **more: Any) -> OperationState:
        """Ask for a group to be copied."""
        told = {"group": to_data(group), "workloads": [to_data(MAIL)], "link": to_data(LINK), **more}
        return self.ask("protect", group.code, **told)

    def effects(self) -> list[str]:
        """What the journal says was really done."""
        return [entry.verb for entry in self.world.journal]

    def test_a_group_is_copied_from_then_on_and_its_workloads_can_boot(self) -> None:
        state = self.protect()
        self.assertEqual((state.status, state.result["digest"]), ("done", GROUP.digest()))
        self.assertEqual(self.world.known["mail"], MAIL)
        self.world.advance(NOW + 7200)
        points = self.world.points("post")
        self.assertGreater(len(points), 50)
        clone = self.ask(
            "clone-point", "mail.t1", workload="mail", group="post", point=points[0].id, mark="t1"
        )
        self.assertEqual(clone.status, "done")

    def test_the_digest_of_a_definition_is_repeated_as_it_was_given(self) -> None:
        for given in ("d-1", "d-2"):
            self.assertEqual(self.protect(digest=given).result["digest"], given)
            said = {state.group: state.digest for state in self.world.replication.states()}
            self.assertEqual(said[GROUP.code], given)
        self.assertEqual(self.effects(), ["protect", "protect"])

    def test_the_same_definition_again_is_no_effect(self) -> None:
        self.protect()
        self.protect()
        self.assertEqual(self.effects(), ["protect"])
        self.protect(replace(GROUP, policy=replace(GROUP.policy, rpo_s=999)))
        self.assertEqual(self.effects(), ["protect", "protect"])

    def test_a_definition_that_cannot_be_read_fails_in_words(self) -> None:
        state = self.ask("protect", "post", group={"code": "post"}, workloads=[])
        self.assertEqual((state.status, state.code), ("failed", "bad-definition"))
        self.assertIn("group.name is missing", state.reason)
        self.assertEqual(self.effects(), [])

    def test_giving_up_what_is_not_there_is_done_and_no_effect(self) -> None:
        self.assertEqual(self.ask("unprotect", "post").status, "done")
        self.assertEqual(self.effects(), [])
        self.assertEqual(self.ask("unprotect", "shop").status, "done")
        self.assertEqual(self.effects(), ["unprotect"])
        self.assertEqual(self.world.replication.states(), ())

    def test_a_pause_has_its_reason_and_an_empty_one_goes_on(self) -> None:
        self.ask("pause-copying", "shop", because="works")
        self.assertEqual(self.world.replication.states()[0].paused_because, "works")
        self.ask("pause-copying", "shop", because="")
        self.assertEqual(self.world.replication.states()[0].paused_because, "")
        self.assertEqual(self.ask("pause-copying", "nope", because="x").code, "no-such-group")

    def test_a_pinned_point_outlives_its_ladder(self) -> None:
        oldest = self.world.points("shop")[0]
        self.assertEqual(self.ask("pin-point", "shop", point=oldest.id, label="keep").status, "done")
        self.world.advance(NOW + 40 * 86400)
        held = {point.id: point.label for point in self.world.points("shop")}
        self.assertEqual(held[oldest.id], "keep")
        self.ask("pin-point", "shop", point=oldest.id, label="")
        self.world.advance(self.at + 3600)
        self.assertNotIn(oldest.id, [point.id for point in self.world.points("shop")])
        self.assertEqual(self.ask("pin-point", "shop", point=oldest.id, label="x").code, "point-gone")

    def test_a_sync_leaves_a_point_of_its_own_moment(self) -> None:
        state = self.ask("sync", "shop", group="shop")
        self.assertEqual(state.status, "done")
        self.assertIn(state.result["point"], [point.id for point in self.world.points("shop")])

    def test_the_same_key_is_answered_from_memory(self) -> None:
        first = self.ask("pause-copying", "shop", key="same", because="one")
        again = self.ask("pause-copying", "shop", key="same", because="two")
        self.assertEqual(first, again)
        self.assertEqual(self.world.replication.states()[0].paused_because, "one")

    def test_trouble_ends_when_all_is_put_right(self) -> None:
        self.world.add_trouble(Trouble(effect="cut", subject="A"), self.at)
        self.assertTrue(self.world.replication.states()[0].stalled_because)
        self.world.clear_faults(self.at + 10)
        self.assertEqual(self.world.replication.states()[0].stalled_because, "")

    def test_workloads_change_by_their_size_and_character(self) -> None:
        world = worlds.world(inventory=worlds.target(workloads=(MAIL, worlds.workload("tiny", 41, disks=()))))
        rates = {one.workload: one for one in world.change_rates()}
        self.assertGreater(rates["mail"].peak_bps, rates["mail"].mean_bps)
        self.assertEqual(rates["tiny"].mean_bps, 0)


if __name__ == "__main__":
    unittest.main()
