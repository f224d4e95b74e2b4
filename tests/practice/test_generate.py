"""Made-up estates hold together, whatever their size."""

from __future__ import annotations

import json
import tempfile
import unittest
from collections import Counter
from pathlib import Path

from maestoso.core.codec import from_data
from maestoso.core.estate.checks import inventory_complaints, workload_complaints
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.judge import judge_landings
from maestoso.core.model.crosswalk import SIDES, Crosswalk
from maestoso.practice.generate import PER_APP, generate
from maestoso.practice.scenario import Scenario
from maestoso.practice.world import World
from tests import worlds


class Generator(unittest.TestCase):
    """By seed."""

    def scenario(self, workloads: int, sites: int) -> Scenario:
        """Written to files and read back, as the demo does."""
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        for name, content in generate(workloads, sites, 7).items():
            (Path(folder.name) / f"{name}.json").write_text(json.dumps(content), encoding="utf-8")
        return Scenario(Path(folder.name))

    def test_the_same_seed_gives_the_same_estate(self) -> None:
        self.assertEqual(generate(50, 2, 7), generate(50, 2, 7))
        self.assertNotEqual(generate(50, 2, 7), generate(50, 2, 8))

    def test_everything_in_it_is_as_it_would_have_to_be_to_come_in(self) -> None:
        scenario = self.scenario(500, 4)
        self.assertEqual(len(scenario.workloads), 500)
        macs = Counter(nic.mac for w in scenario.workloads.values() for nic in w.nics)
        self.assertEqual(max(macs.values()), 1)
        for code in scenario.site_codes():
            inventory = scenario.spec(code, worlds.NOW).inventory
            self.assertEqual(list(inventory_complaints(inventory)), [])
            for workload in inventory.workloads:
                self.assertEqual(list(workload_complaints(workload, inventory)), [])

    def test_everything_lands_at_the_next_site_without_a_finding(self) -> None:
        scenario = self.scenario(500, 3)
        ground = Ground({code: scenario.spec(code, worlds.NOW).inventory for code in scenario.site_codes()})
        walks = [from_data(Crosswalk, row) for row in scenario.data("crosswalks")["crosswalks"]]
        self.assertEqual(len(walks), 3)
        for walk in walks:
            workloads = ground.sites[walk.source].workloads
            names = {workload.name for workload in workloads}
            for side in SIDES:
                self.assertEqual(judge_landings(walk, ground, workloads, side, names).findings, ())

    def test_groups_are_copied_to_another_site_and_some_workloads_to_none(self) -> None:
        scenario = self.scenario(11 * PER_APP, 3)
        groups = scenario.groups()
        self.assertEqual(len(groups), 10)
        self.assertTrue(all(group.source != group.target for group in groups))
        protected = {name for group in groups for name in group.members}
        self.assertEqual(len(scenario.workloads) - len(protected), PER_APP)

    def test_its_sites_come_up_with_points(self) -> None:
        scenario = self.scenario(4 * PER_APP, 2)
        world = World(scenario.spec("BIR", worlds.NOW), worlds.NOW)
        states = world.replication.states()
        self.assertEqual(len(states), 2)
        self.assertTrue(all(state.newest for state in states))

    def test_one_site_alone_protects_nothing(self) -> None:
        self.assertEqual(self.scenario(20, 1).groups(), ())


if __name__ == "__main__":
    unittest.main()
