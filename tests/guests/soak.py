"""The story of real machines while processes die: ``./maestoso soak --guests 20 --seed 1``, as root.

By chance SIGKILL hits an agent (which is started again), the engine, the keeper, or the QEMU of a machine; a
person tries again what failed. At the end nothing may be lost beyond a point, and nothing may have happened
twice.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import threading
import time
import unittest
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import httpx

from maestoso.real_lab import ready
from tests.e2e.application import until
from tests.guests.lab import AWAY, HOME, MEMBERS
from tests.guests.story import Story

LEAST_S, MOST_S = 2.0, 12.0
"""Between two deaths."""
PROCESSES = ("engine", "keeper")


class Deaths:
    """Kills by chance while it is entered."""

    def __init__(self, story: Story, seed: int, *, machines: bool = True) -> None:
        self.story = story
        self.random = random.Random(seed)
        self.machines = machines
        self.had: Counter[str] = Counter()
        self.spared: set[str] = set()
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._go)

    def __enter__(self) -> Deaths:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()

    def _go(self) -> None:
        while not self._over.wait(self.random.uniform(LEAST_S, MOST_S)):
            what = self.random.choice([HOME, AWAY, *PROCESSES, *(["machine"] if self.machines else [])])
            if what in self.spared:
                continue
            with suppress(AssertionError, ProcessLookupError, KeyError):
                self._kill(what)
                self.had[what] += 1

    def _kill(self, what: str) -> None:
        lab = self.story.sites.lab
        if what in (HOME, AWAY):
            lab.kill_agent(what)
            lab.start_agent(what)
        elif what == "machine":
            # Of those that come up at the other site: production is not what a test breaks here.
            found = list(lab.machines(AWAY).values())
            if found:
                os.kill(self.random.choice(found), signal.SIGKILL)
        else:
            self.story.app.kill(what)


class Struck(Story):
    """A machine that was killed after its step was done stays off until somebody gives it power."""

    def stage(self) -> tuple[str, str]:
        """Somebody tries again what failed of runs that were started by themselves, too."""
        for run in self.api.get("/runs")["runs"]:
            if not run["outcome"]:
                self.answer(run["id"])
        return super().stage()

    def start(self, body: dict[str, Any]) -> Any:
        """Again where an agent was killed just now."""
        found: list[Any] = []

        def started() -> bool:
            try:
                found.append(super(Struck, self).start(body))
            except httpx.HTTPStatusError as error:
                if "does not answer" not in str(error):
                    raise
            return bool(found)

        until(started, "a run to start")
        return found[0]

    def copies_run(self, mark: str) -> None:
        """They may have been killed a moment ago, and get power again from whoever looks at them."""
        agent = self.sites.agents[AWAY]
        _patiently(lambda: [agent.done("power-on", f"{name}--{mark}", unless_on=True) for name in MEMBERS])

    def copies_find_each_other(self, mark: str) -> None:
        _patiently(lambda: super(Struck, self).copies_find_each_other(mark))

    def put_right(self, code: str) -> None:
        agent = self.sites.agents[code]

        def powered() -> None:
            for name in agent.get("/pulse", "SitePulse")["off"]:
                agent.done("power-on", name, unless_on=True)

        _patiently(powered)


def _patiently(work: Callable[[], object]) -> None:
    """What a person asks of an agent, anew where it died in the middle of it."""

    def done() -> bool:
        try:
            work()
        except httpx.TransportError:
            return False
        return True

    until(done, "an agent to live long enough to answer")


class Soak(unittest.TestCase):
    """One seed."""

    seed = 1

    def runTest(self) -> None:
        """The story, and who dies in which part of it."""
        story = Struck(self)
        story.answers["failure"] = "retry"
        story.answers["held"] = "resume"
        had: Counter[str] = Counter()
        with Deaths(story, self.seed) as deaths:
            story.tested()
        had += deaths.had
        with Deaths(story, self.seed + 1000) as deaths:
            deaths.spared |= {HOME, "machine"}  # dead they are dead: nothing brings up what was up already
            story.lost_and_failed_over()
        had += deaths.had
        with Deaths(story, self.seed + 2000, machines=False) as deaths:
            deaths.spared.add(HOME)  # until it is started again
            story.sites.lab.start_agent(HOME)
            deaths.spared.clear()
            self.assertEqual(story.run_through(kind="re-protect")["outcome"], "protected")
        with Deaths(story, self.seed + 3000, machines=False) as deaths:
            story.brought_home()
        had += deaths.had
        story.judged()
        print(
            f"seed {self.seed}: {', '.join(f'{number} of {what}' for what, number in sorted(had.items()))}",
            flush=True,
        )


def main() -> int:
    """So many seeds; the status is 0 where nothing was broken."""
    parser = argparse.ArgumentParser(prog="maestoso soak --guests", description=__doc__)
    parser.add_argument("--seeds", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    if why := ready.why_not():
        print(why)
        return 2
    broken = 0
    for seed in range(given.seed, given.seed + given.seeds):
        began, soak = time.monotonic(), Soak()
        soak.seed = seed
        done = unittest.TextTestRunner(verbosity=0).run(soak)
        broken += not done.wasSuccessful()
        print(
            f"seed {seed}: {'well' if done.wasSuccessful() else 'BROKEN'} ({time.monotonic() - began:.0f} s)",
            flush=True,
        )
    print(f"{given.seeds - broken} of {given.seeds} seeds went well.")
    return 1 if broken else 0


if __name__ == "__main__":
    raise SystemExit(main())
