"""The whole round trip of production over agents that are no practice sites: two folders of files as machines."""

from __future__ import annotations

import signal
import unittest
import uuid
from typing import Any, ClassVar

from maestoso.core.codec import to_data
from maestoso.core.model.protection import Policy
from tests.agent_kit.sites import (
    AWAY,
    HOME,
    MEMBERS,
    PREFIXES,
    TOKEN,
    TwoSites,
)
from tests.e2e.application import Api, Application, until

PASSWORD = "correct-horse-battery"
DEATHS = [
    ("before-effect", "shut-down"), ("after-effect", "fence"), ("after-write", "sync"), ("after-effect", "promote"),
    ("after-effect", "register"), ("before-reply", "attach-nics"), ("after-effect", "power-on"),
    ("after-settle", "await-heartbeat"), ("before-effect", "adopt"), ("after-effect", "give-up"),
    ("after-effect", "reverse-copying"), ("before-write", "unprotect"), ("after-effect", "shut-down"),
]  # fmt: skip
"""Where an agent dies, in which verb."""
ANSWERS = {"decision": "commit", "verdict": "verdict", "acknowledge": "answer"}
"""What a person says; nothing else is asked where everything goes as it is written."""


def crosswalk() -> dict[str, Any]:
    """From home to the other site: one network, one pool each, one rule."""
    move = {"action": "translate", "to": PREFIXES[AWAY], "gateway": None}
    return {
        "source": HOME, "target": AWAY, "networks": [{"source": "lan", "live": "lan"}],
        "host_pools": [{"source": "pool", "target": "pool"}], "storage_pools": [{"source": "disk", "target": "disk"}],
        "address_rules": [{"prefix": PREFIXES[HOME], "live": move, "test": move}],
    }  # fmt: skip


class ThereAndBack(unittest.TestCase):
    """With two agents of the kit, each a process of its own."""

    app: ClassVar[Application]

    def setUp(self) -> None:
        self.app = Application()
        self.addCleanup(self.app.close)
        self.app.start("start", MAESTOSO_ADMIN_PASSWORD=PASSWORD)
        self.api: Api = self.app.api()
        self.two = TwoSites(self)
        self.wanted = self.two.folder / "crash-points"
        self.wanted.write_text("")
        self.agents = self.two.processes_that_die(self.wanted)
        for code, agent in self.agents.items():
            body = {"code": code, "name": code.title(), "agent_url": agent.url, "token": TOKEN}
            self.assertFalse(self.api.send("POST", "/sites", body)["practice"])
        self.api.send(
            "PUT", "/links", {"one": HOME, "other": AWAY, "bandwidth_bps": 10**9, "latency_ms": 1.0}
        )
        self.api.send("POST", "/crosswalks", crosswalk())
        self.api.send("POST", f"/crosswalks/{HOME}/{AWAY}/twin", None)
        policy = to_data(Policy(interval_s=5, rpo_s=600, app_consistent_every_s=0))
        group = {
            "code": "shop", "name": "Shop", "source": HOME, "target": AWAY, "members": list(MEMBERS),
            "policy": policy, "tag_rule": "",
        }  # fmt: skip
        self.api.send("POST", "/groups", {"group": group, "key": ""})
        waves = [
            {"name": f"Wave {number}", "members": [{"workload": name}]} for number, name in enumerate(MEMBERS)
        ]
        plan = {
            "code": "SHOP", "name": "Shop", "source": HOME, "target": AWAY, "rto_s": 3600, "rpo_s": 600, "waves": waves,
        }  # fmt: skip
        self.api.send("POST", "/plans", {"plan": plan})
        until(lambda: self.stage() == (AWAY, "protected"), "the group to be protected")

    def stage(self) -> tuple[str, str]:
        """Where the group is copied to, and its stage."""
        (group,) = self.api.get("/groups")["groups"]
        return group["target"], group["stage"]

    def run_through(self, **options: Any) -> Any:
        """Start a run, answer what a person is asked, and wait for its end; how it stands then."""
        body = {"plan": "SHOP", "confirm": "SHOP", "options": options}
        started = self.api.send("POST", "/runs", body, **{"Idempotency-Key": str(uuid.uuid4())})
        answered: set[str] = set()

        def ended() -> Any:
            status = self.api.status(started["id"]) or {"outcome": "", "needs": []}
            for need in status["needs"]:
                self.assertIn(need["kind"], ANSWERS, need)
                if need["step"] not in answered:
                    answered.add(need["step"])
                    verdict = "passed" if need["kind"] == "verdict" else ""
                    kind = ANSWERS[need["kind"]]
                    body = {"kind": kind, "step": need["step"], "text": "looked at", "verdict": verdict}
                    self.api.send("POST", f"/runs/{started['id']}/controls", body)
            return status if status["outcome"] else None

        return until(ended, f"the end of {options}")

    def homes(self) -> dict[str, set[str]]:
        """Which machines each site says it has."""
        return {
            code: {one["name"] for one in agent.get("/inventory", "Inventory")["workloads"]}
            for code, agent in self.agents.items()
        }

    def address(self, code: str, name: str) -> list[str]:
        """The address that a machine has, as its agent keeps it."""
        return list(self.two.machine(code, name)["nics"][0]["addresses"])

    def test_tests_and_production_there_and_back_while_agents_die_in_the_middle_of_everything(self) -> None:
        self.abort_a_test()
        tested = self.run_through(kind="test", sync_first=True)
        self.assertEqual((tested["outcome"], tested["remains"]), ("passed", []))
        self.assertEqual(self.homes(), {HOME: set(MEMBERS), AWAY: set()})
        lines = [f"{place} {verb}" for place, verb in DEATHS]
        self.wanted.write_text("".join(f"{line}\n" for line in lines))
        for home, away, address in ((HOME, AWAY, "198.51.100.10/24"), (AWAY, HOME, "192.0.2.10/24")):
            there = self.run_through(kind="planned", at_commit="re-protect")
            self.assertEqual(there["outcome"], "committed")
            self.assertEqual(self.homes(), {home: set(), away: set(MEMBERS)})
            self.assertEqual(self.address(away, "db"), [address])
            until(lambda home=home: self.stage() == (home, "protected"), "the way back to be protected")
        left = self.wanted.read_text().split("\n")
        killed = [-signal.SIGKILL] * len(lines)
        self.assertEqual(
            (left, self.two.deaths), ([""], killed), "each line kills once, and nothing else does"
        )
        done = self.app.command_of_django("check_integrity", "--journals")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        for agent in self.agents.values():
            keys = [entry["key"] for entry in agent.get("/journal", "Journal", after=0)["entries"]]
            self.assertEqual(len(keys), len(set(keys)), "every effect is there once")
        self.lose_the_source()

    def abort_a_test(self) -> None:
        """One that is aborted once a copy has power; nothing of it is left."""
        body = {"plan": "SHOP", "options": {"kind": "test"}}
        started = self.api.send("POST", "/runs", body, **{"Idempotency-Key": str(uuid.uuid4())})["id"]
        until(self.on, "a copy to have power")
        self.api.send("POST", f"/runs/{started}/controls", {"kind": "abort", "text": "seen enough"})
        ended = until(lambda: (s := self.api.status(started)) and s["outcome"] and s, "the end")
        self.assertEqual((ended["outcome"], ended["remains"]), ("aborted", []))
        self.assertEqual(self.agents[AWAY].get("/remains", "Remains", mark=ended["mark"])["remains"], [])

    def on(self) -> bool:
        """Whether copies have power at the other site."""
        return bool(self.agents[AWAY].get("/pulse", "SitePulse")["copies"])

    def lose_the_source(self) -> None:
        """A disaster, with what an agent alone remembers."""
        self.two.lose(HOME)
        until(lambda: self.api.get("/sites")["sites"][0]["lost_because"], "the loss to be seen")
        lost = self.run_through(kind="disaster", acknowledged=True, go_on=True)
        self.assertEqual(lost["outcome"], "committed")
        self.assertEqual(self.homes_of(AWAY), set(MEMBERS))

    def homes_of(self, code: str) -> set[str]:
        """Which machines one site says it has."""
        return {one["name"] for one in self.agents[code].get("/inventory", "Inventory")["workloads"]}


if __name__ == "__main__":
    unittest.main()
