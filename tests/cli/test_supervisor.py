"""The supervisor ends its processes in the order of their priorities, those of one together."""

from __future__ import annotations

import unittest
from dataclasses import dataclass, field
from types import SimpleNamespace
from unittest import mock

from maestoso.cli.supervisor import InOrder


@dataclass
class Group:
    """A process, to the supervisor."""

    name: str
    priority: int
    told: list[str]
    runs: bool = True
    config: SimpleNamespace = field(init=False)

    def __post_init__(self) -> None:
        self.config = SimpleNamespace(priority=self.priority)

    def __lt__(self, other: Group) -> bool:
        return self.priority < other.priority

    def transition(self) -> None:
        """It is started, where it is to be."""
        self.told.append(f"start {self.name}")

    def stop_all(self) -> None:
        """It is told to stop, perhaps once more."""
        self.told.append(f"stop {self.name}")

    def get_unstopped_processes(self) -> list[str]:
        """Those that run still."""
        return [self.name] if self.runs else []


class Order(unittest.TestCase):
    """Database, sites, engine, web and workers."""

    def setUp(self) -> None:
        self.told: list[str] = []
        names = {"mariadb": 1, "site-HIL": 2, "site-QUA": 2, "engine": 3, "web": 4, "workers": 4}
        self.groups = {name: Group(name, priority, self.told) for name, priority in names.items()}
        self.supervisor = InOrder.__new__(InOrder)
        self.supervisor.stop_groups = list(self.groups.values())

    def second(self, *ended: str) -> list[str]:
        """A turn of the supervisor, in which some of them end; whom it told to stop, and how many are left."""
        del self.told[:]
        self.supervisor.ordered_stop_groups_phase_1()
        for name in ended:
            self.groups[name].runs = False
        self.supervisor.ordered_stop_groups_phase_2()
        return list(self.told)

    def test_those_of_one_priority_are_stopped_together_and_nobody_before_who_needs_him(self) -> None:
        self.assertEqual(self.second(), ["stop web", "stop workers"])
        self.assertEqual(self.second("web"), ["stop web", "stop workers"])
        self.assertEqual(self.second("workers"), ["stop web", "stop workers"])
        self.assertEqual(self.second("engine"), ["stop engine"])
        self.assertEqual(self.second("site-HIL", "site-QUA"), ["stop site-HIL", "stop site-QUA"])
        self.assertEqual(self.second("mariadb"), ["stop mariadb"])
        self.assertEqual(self.supervisor.stop_groups, [])
        self.assertEqual(self.second(), [])

    def test_the_first_ones_are_started_before_the_first_second_is_over(self) -> None:
        self.supervisor.process_groups = dict(reversed(self.groups.items()))
        with mock.patch(
            "supervisor.supervisord.Supervisor.runforever", lambda self: self.told.append("goes on")
        ):
            self.supervisor.told = self.told
            self.supervisor.runforever()
        self.assertEqual((self.told[0], self.told[-1], len(self.told)), ("start mariadb", "goes on", 7))


if __name__ == "__main__":
    unittest.main()
