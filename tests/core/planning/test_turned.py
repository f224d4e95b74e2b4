"""A plan that is read the other way."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.planning.turned import is_away, turned
from tests import worlds

HOME = replace(worlds.GROUP, source="B", target="A")


class Direction(unittest.TestCase):
    """A plan is away when all that is copied of it is copied home."""

    def test_by_its_groups(self) -> None:
        other = replace(worlds.GROUP, code="other", members=("elsewhere",))
        for groups, away in (
            ((worlds.GROUP,), False),
            ((HOME,), True),
            ((HOME, other), True),
            ((), False),
            ((replace(HOME, members=("db",)), replace(worlds.GROUP, code="rest", members=("web",))), False),
        ):
            with self.subTest(groups=[group.code for group in groups]):
                self.assertEqual(is_away(worlds.plan(), groups), away)


class TurnedRound(unittest.TestCase):
    """Order and cues stay; sites change places, and sizes are those at home."""

    def test_sites_change_places_and_the_order_stays(self) -> None:
        plan = worlds.with_hold(worlds.plan(), 1)
        back = turned(plan, {})
        self.assertEqual((back.source, back.target), ("B", "A"))
        self.assertEqual(back.workloads(), plan.workloads())
        self.assertEqual([wave.cues for wave in back.waves], [wave.cues for wave in plan.waves])
        self.assertEqual(turned(back, {}), plan)

    def test_what_the_plan_says_of_sizes_is_about_the_way_out(self) -> None:
        plan = worlds.plan()
        small = replace(plan.waves[0].members[0], cores=1, memory_mib=512)
        first = replace(plan.waves[0], members=(small, *plan.waves[0].members[1:]))
        plan = replace(plan, waves=(first, *plan.waves[1:]))
        sized = {
            member.workload: (member.cores, member.memory_mib) for _, member in turned(plan, {}).members()
        }
        self.assertEqual(sized["db"], (None, None))
        home = turned(plan, {"web": (8, 16384)})
        sized = {member.workload: (member.cores, member.memory_mib) for _, member in home.members()}
        self.assertEqual((sized["web"], sized["app"]), ((8, 16384), (None, None)))


if __name__ == "__main__":
    unittest.main()
