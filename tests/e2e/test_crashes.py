"""The short scenarios of the crash harness; ``./maestoso soak`` plays the others too."""

from __future__ import annotations

import unittest

from tests.e2e import scenarios
from tests.e2e.harness import Harness, harnessed

HARNESS: dict[str, Harness] = {}


def setUpModule() -> None:
    """One application for all of these."""
    HARNESS["one"] = unittest.enterModuleContext(harnessed(seed=1))


class Crashes(unittest.TestCase):
    """Whatever dies where, the run ends and keeps its promises."""

    def play(self, name: str) -> None:
        """One scenario of the short ones."""
        scenarios.play(HARNESS["one"], scenarios.SHORT[name])

    def test_a_planned_failover_dies_at_every_named_point_and_is_rolled_back(self) -> None:
        self.play("a planned failover dies at every named point")

    def test_a_disaster_with_ten_faults_and_every_process_killed(self) -> None:
        self.play("a disaster with ten faults and every process killed")

    def test_no_short_scenario_is_left_out(self) -> None:
        tests = [name for name in dir(self) if name.startswith("test_")]
        self.assertEqual(len(tests) - 1, len(scenarios.SHORT))


if __name__ == "__main__":
    unittest.main()
