"""A short fixed set of the crash harness: named points of every kind of step, and kills with ten faults at once."""

from __future__ import annotations

import unittest
from typing import Any

from tests.e2e.harness import PROCESSES, Harness, harnessed

HARNESS: dict[str, Harness] = {}

POINTS = (
    "before-commit step.asked sync:",
    "after-commit step.asked shut-down:",
    "before-write shut-down:",
    "before-send fence:",
    "before-reply fence:",
    "on-answer final-sync:",
    "after-write promote:",
    "before-commit step.done promote:",
    "after-commit step.asked register:",
    "on-answer set-addresses:",
    "after-write power-on:",
    "before-reply power-on:",
    "after-commit step.waits decision",
    "before-send demote:",
    "after-write lift-fence:",
    "on-answer start-again:",
)
FAULTS = """
drill: Ten things at once
faults:
  - {site: HIL, preset: boot-hangs, subject: dir-01}
  - {site: HIL, preset: wrong-answer, subject: name-01}
  - {site: HIL, preset: addresses-refused, subject: dir-02}
  - {site: HIL, preset: promote-refused, subject: harbour}
  - {site: HIL, preset: no-heartbeat, subject: ca-01}
  - {site: HIL, preset: boot-hangs, subject: time-01}
  - {site: HIL, preset: cycles-fail, subject: trust}
  - {site: QUA, preset: shutdown-ignored, subject: dir-02}
  - {site: QUA, preset: shutdown-ignored, subject: time-01}
  - {site: QUA, preset: clock-skew}
"""


def setUpModule() -> None:
    """One application for all of these."""
    HARNESS["one"] = unittest.enterModuleContext(harnessed(seed=1))


class Crashes(unittest.TestCase):
    """Whatever dies where, the run ends and keeps its promises."""

    def setUp(self) -> None:
        self.harness = HARNESS["one"]

    def test_a_planned_failover_dies_at_every_named_point_and_is_rolled_back(self) -> None:
        self.harness.arm(*POINTS)
        status = self.harness.run("HARB", "planned")
        self.assertEqual(self.harness.left(), [])
        self.assertEqual(status["outcome"], "rolled back")
        self.assertEqual({group["stage"] for group in status["groups"]}, {"protected"})
        self.harness.check()

    def test_a_disaster_with_ten_faults_and_every_process_killed(self) -> None:
        api = self.harness.app.api()
        api.send("POST", "/practice-lab/fault-script", {"text": FAULTS})
        killed = self.kill_each_process_once()
        status: dict[str, Any] = self.harness.run("HARB", "disaster", kill_every_s=1.5, go_on=False)
        self.assertEqual(sorted(killed), sorted(PROCESSES))
        self.assertIn(status["outcome"], ("rolled back", "aborted"))
        self.harness.check()

    def test_out_and_home_again_with_ten_faults_and_every_process_killed(self) -> None:
        """A disaster, committed, re-protected, failed back as planned, re-protected: home, as at the start."""
        api = self.harness.app.api()
        api.send("DELETE", "/practice-lab", None)
        api.send("POST", "/practice-lab/fault-script", {"text": FAULTS})
        killed = self.kill_each_process_once()
        for kind, ended in (
            ("disaster", "committed"),
            ("re-protect", "protected"),
            ("planned", "committed"),
            ("re-protect", "protected"),
        ):
            status = self.harness.run("HARB", kind, decision="commit", kill_every_s=2.0)
            self.assertEqual(status["outcome"], ended)
        self.assertEqual(sorted(killed), sorted(PROCESSES))
        groups = self.harness.app.api().get("/groups")["groups"]
        ours = {(g["source"], g["target"]) for g in groups if g["code"] in ("harbour", "trust")}
        self.assertEqual(ours, {("QUA", "HIL")})
        self.harness.check()

    def kill_each_process_once(self) -> list[str]:
        """From now on, whenever the harness does harm, the next process dies; returns those that did."""
        killed: list[str] = []
        harm = list(PROCESSES)

        def next_one() -> None:
            if harm:
                killed.append(harm.pop())
                self.harness.app.kill(killed[-1])

        self.harness.harm = next_one  # type: ignore[method-assign]
        return killed


if __name__ == "__main__":
    unittest.main()
