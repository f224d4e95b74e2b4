"""What the crash harness plays: named points, faults, deaths by chance. The short ones are tests, all are soaked.

A scenario raises AssertionError where a promise was broken, and begins with everything at its place, as it ends.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from tests.e2e.harness import PROCESSES, Harness

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


def dies_at_every_named_point(harness: Harness) -> None:
    """A planned failover dies at a point of every kind of step, and is rolled back."""
    harness.arm(*POINTS)
    status = harness.run("HARB", "planned")
    _same(harness.left(), [])
    _same(status["outcome"], "rolled back")
    _same({group["stage"] for group in status["groups"]}, {"protected"})


def ten_faults_and_every_process_killed(harness: Harness) -> None:
    """A disaster failover meets ten faults at once while every process is killed."""
    harness.app.api().send("POST", "/practice-lab/fault-script", {"text": FAULTS})
    killed = harness.kill_each_process_once()
    status = harness.run("HARB", "disaster", kill_every_s=1.5, go_on=False)
    _same(sorted(killed), sorted(PROCESSES))
    _among(status["outcome"], ("rolled back", "aborted"))


def out_and_home_again(harness: Harness) -> None:
    """A disaster, committed, re-protected, failed back as planned, re-protected: home, as at the start."""
    harness.app.api().send("POST", "/practice-lab/fault-script", {"text": FAULTS})
    killed = harness.kill_each_process_once()
    for kind, ended in (
        ("disaster", "committed"),
        ("re-protect", "protected"),
        ("planned", "committed"),
        ("re-protect", "protected"),
    ):
        _same(harness.run("HARB", kind, decision="commit", kill_every_s=2.0)["outcome"], ended)
    _same(sorted(killed), sorted(PROCESSES))
    groups = harness.app.api().get("/groups")["groups"]
    _same({(g["source"], g["target"]) for g in groups if g["code"] in ("harbour", "trust")}, {("QUA", "HIL")})


def by_chance(kind: str, plan: str, kill_every_s: float, harness: Harness) -> None:
    """A run of a kind while processes die at points drawn by chance, and every few seconds."""
    harness.arm(*(f"{harness.chance.choice(PLACES)} {harness.chance.choice(VERBS)}:" for _ in range(6)))
    harness.run(plan, kind, kill_every_s=kill_every_s, go_on=kind == "disaster")


def over_lossy_lines(kind: str, harness: Harness) -> None:
    """A run of a kind while messages come to grief, agents forget, and something dies now and then."""
    harness.trouble(0.15, forgetful=True)
    harness.run("HARB", kind, kill_every_s=6.0, go_on=kind == "disaster")


PLACES = (
    "before-commit",
    "after-commit",
    "before-send",
    "on-answer",
    "before-write",
    "after-write",
    "before-reply",
)
VERBS = (
    "sync", "shut-down", "fence", "promote", "register", "set-size", "attach-nics", "set-addresses", "power-on",
    "await-heartbeat", "probe-service", "clone-point", "make-sandbox", "prove-isolation", "demote", "lift-fence",
    "unregister", "leak-check",
)  # fmt: skip

Scenario = Callable[[Harness], None]
SHORT: dict[str, Scenario] = {
    "a planned failover dies at every named point": dies_at_every_named_point,
    "a disaster with ten faults and every process killed": ten_faults_and_every_process_killed,
}
LONG: dict[str, Scenario] = {
    "out and home again with ten faults and every process killed": out_and_home_again,
    **{
        f"{kind} of {plan}, something dies {'by points only' if not every else f'every {every:g} s'}": partial(
            by_chance, kind, plan, every
        )
        for kind in ("planned", "disaster", "test")
        for plan, every in (("HARB", 0.0), ("BOOK", 2.0), ("HARB", 5.0))
    },
    **{
        f"{kind} over lossy lines, to agents that forget": partial(over_lossy_lines, kind)
        for kind in ("planned", "disaster", "test")
    },
}


def play(harness: Harness, scenario: Scenario) -> None:
    """One scenario and all promises of all runs, from sites at which nothing is wrong."""
    harness.begin()
    scenario(harness)
    harness.check()


def _same(found: Any, wanted: Any) -> None:
    if found != wanted:
        raise AssertionError(f"{found!r} is not {wanted!r}")


def _among(found: Any, wanted: tuple[Any, ...]) -> None:
    if found not in wanted:
        raise AssertionError(f"{found!r} is none of {wanted!r}")
