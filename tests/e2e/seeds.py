"""One case of chance after the other, for soaks: the seed decides what is tried."""

from __future__ import annotations

import argparse
import random
import threading
import time
import unittest
import uuid
from typing import Any

import httpx

from tests.e2e.application import Api, Application

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
"""Until something dies."""


class ByChance:
    """A run of chance, answered by whoever is patient until something dies."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.chance = random.Random(seed)
        self.options = self.chance.choice(KINDS)
        self.decided = self.chance.choice(("commit", "roll-back"))
        self.dies_after = self.chance.uniform(0.0, LONGEST_S)
        self.run = 0

    def start(self, api: Api) -> int:
        """Start it; returns its number."""
        body = {"plan": "HARB", "confirm": "HARB", "options": self.options}
        key = {"Idempotency-Key": str(uuid.uuid4())}
        self.run = int(api.send("POST", "/runs", body, **key)["id"])
        return self.run

    def go_on(self, api: Api) -> None:
        """Answer it until the moment has come."""
        began = time.monotonic()
        while time.monotonic() - began < self.dies_after:
            threading.Event().wait(0.2)
            self.answer(api)

    def answer(self, api: Api) -> str:
        """Answer once whatever the run needs; its outcome, empty while it goes on."""
        status = api.status(self.run) or {}
        for need in status.get("needs", []):
            kind = {**ANSWERS, "decision": self.decided}[need["kind"]]
            body = {
                "kind": kind,
                "step": need["step"],
                "text": "by chance",
                "verdict": "passed" if kind == "verdict" else "",
            }
            try:
                api.send("POST", f"/runs/{self.run}/controls", body)
            except httpx.HTTPError:  # it has moved on meanwhile
                continue
        return str(status.get("outcome", ""))

    def check(self, case: unittest.TestCase, app: Application) -> None:
        """That the records and the journals of the sites agree, and that nothing was done twice."""
        checked = app.command_of_django("check_integrity", "--journals")
        case.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)
        done = effects(app, self.run)
        case.assertEqual(len(done), len(set(done)), "an effect happened twice")

    def __str__(self) -> str:
        return f"seed {self.seed}: {self.options['kind']}, after {self.dies_after:.1f} s"


def effects(app: Application, run: int) -> list[str]:
    """The keys of all effects of a run at its site, in order."""
    mine = f"{app.secrets['instance']}-{run}:"
    return [one["key"] for one in app.site("/journal")["entries"] if one["key"].startswith(mine)]


def run_seeds(case: type[Any], prog: str, description: str | None) -> int:
    """So many seeds of a case with a ``seed``; the status is 0 where nothing was broken."""
    parser = argparse.ArgumentParser(prog=prog, description=description)
    parser.add_argument("--seeds", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    broken = 0
    for seed in range(given.seed, given.seed + given.seeds):
        one = case()
        one.seed = seed
        done = unittest.TextTestRunner(verbosity=0).run(one)
        broken += not done.wasSuccessful()
        print(f"seed {seed}: {'well' if done.wasSuccessful() else 'BROKEN'}", flush=True)
    print(f"{given.seeds - broken} of {given.seeds} seeds went well.")
    return 1 if broken else 0
