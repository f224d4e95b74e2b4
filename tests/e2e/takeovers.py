"""Primaries that die by chance in the middle of a run, and standbys that take over: ``./maestoso soak --standby 20``.

Whatever moment it is, the run ends at the standby, every promise holds in the sites' journals, and nothing was done
twice.
"""

from __future__ import annotations

import argparse
import random
import threading
import time
import unittest
import uuid
from typing import Any

import httpx

from tests.e2e.application import Api, until
from tests.e2e.test_standby import TwoMachines

ANSWERS = {
    "verdict": "verdict",
    "acknowledge": "answer",
    "failure": "retry",
    "held": "resume",
    "hold": "answer",
}
KINDS: tuple[dict[str, Any], ...] = (
    {"kind": "test", "pace": 20},
    {"kind": "planned", "pace": 20, "sync_first": True},
    {"kind": "disaster", "pace": 20, "acknowledged": True, "go_on": True},
)
LONGEST_S = 25.0
"""Until the primary dies."""
ENDS_S = 600.0


class OneSeed(TwoMachines):
    """Not found by the runner of tests: its methods are named otherwise."""

    seed = 1

    def runTest(self) -> None:
        """One run, one death, one takeover."""
        chance = random.Random(self.seed)
        options = chance.choice(KINDS)
        standby = self.follower()
        body = {"plan": "HARB", "confirm": "HARB", "options": options}
        run = int(self.api.send("POST", "/runs", body, **{"Idempotency-Key": str(uuid.uuid4())})["id"])
        decided = chance.choice(("commit", "roll-back"))
        dies_after = chance.uniform(0.0, LONGEST_S)
        began = time.monotonic()
        while time.monotonic() - began < dies_after:
            threading.Event().wait(0.2)
            self.answer(self.api, run, decided)
        seq = self.status(self.api, run)["seq"]
        self.burn()
        done = standby.command("takeover", "--yes")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        standby.process.wait(60)  # type: ignore[union-attr]
        standby.start("start", MAESTOSO_ADMIN_PASSWORD=self.primary.password)
        api = standby.api()
        outcome = until(lambda: self.answer(api, run, decided), f"run {run} to end", ENDS_S)
        checked = standby.command_of_django("check_integrity", "--journals")
        self.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)
        effects = self.effects(standby, run)
        self.assertEqual(len(effects), len(set(effects)), "an effect happened twice")
        print(
            f"seed {self.seed}: {options['kind']}, killed after {dies_after:.1f} s at event {seq}, ended: {outcome}",
            flush=True,
        )

    def answer(self, api: Api, run: int, decided: str) -> str:
        """Answer once whatever a run needs; its outcome, empty while it goes on."""
        status = self.status(api, run)
        for need in status.get("needs", []):
            kind = {**ANSWERS, "decision": decided}[need["kind"]]
            body = {
                "kind": kind,
                "step": need["step"],
                "text": "by chance",
                "verdict": "passed" if kind == "verdict" else "",
            }
            try:
                api.send("POST", f"/runs/{run}/controls", body)
            except httpx.HTTPError:  # it has moved on meanwhile
                continue
        return str(status.get("outcome", ""))


def main() -> int:
    """So many seeds; the status is 0 where nothing was broken."""
    parser = argparse.ArgumentParser(prog="maestoso soak --standby", description=__doc__)
    parser.add_argument("--seeds", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    broken = 0
    for seed in range(given.seed, given.seed + given.seeds):
        soak = OneSeed()
        soak.seed = seed
        done = unittest.TextTestRunner(verbosity=0).run(soak)
        broken += not done.wasSuccessful()
        print(f"seed {seed}: {'well' if done.wasSuccessful() else 'BROKEN'}", flush=True)
    print(f"{given.seeds - broken} of {given.seeds} seeds went well.")
    return 1 if broken else 0


if __name__ == "__main__":
    raise SystemExit(main())
