"""Real machines through the whole application: tested beside production, lost, failed over, brought home."""

from __future__ import annotations

import unittest
import uuid
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.protection import Policy
from tests.e2e.application import Api, Application, until
from tests.guests.lab import AWAY, HOME, MEMBERS, Sites, needs_real_machines

PASSWORD = "correct-horse-battery"
ANSWERS = {"decision": "commit", "verdict": "verdict", "acknowledge": "answer"}


@needs_real_machines
class RealMachines(unittest.TestCase):
    """Two guests at two sites, and Maestoso as a person would use it."""

    def setUp(self) -> None:
        self.sites = Sites(self)
        self.app = Application(fresh=True)
        self.addCleanup(self.app.close)
        networks = ",".join(f"{self.sites.lab.line}.0.{10 + site.number}" for site in self.sites.lab.sites)
        self.app.start("start", MAESTOSO_ADMIN_PASSWORD=PASSWORD, MAESTOSO_AGENT_HOSTS=networks)
        self.api: Api = self.app.api()
        self.sites.start_production()
        for code in (HOME, AWAY):
            lab = self.sites.lab
            body = {
                "code": code, "name": code.title(), "agent_url": lab.url(code), "token": lab.token(code),
                "certificate": lab.certificate(code),
            }  # fmt: skip
            self.assertFalse(self.api.send("POST", "/sites", body)["practice"])
        self.api.send(
            "PUT", "/links", {"one": HOME, "other": AWAY, "bandwidth_bps": 10**9, "latency_ms": 1.0}
        )
        for source, target in ((HOME, AWAY), (AWAY, HOME)):
            self.api.send("POST", "/crosswalks", self.crosswalk(source, target))
        policy = to_data(Policy(interval_s=5, rpo_s=600, app_consistent_every_s=3600))
        group = {
            "code": "shop", "name": "Shop", "source": HOME, "target": AWAY, "members": list(MEMBERS), "policy": policy,
            "tag_rule": "",
        }  # fmt: skip
        self.api.send("POST", "/groups", {"group": group, "key": ""})
        waves = [{"name": name.title(), "members": [{"workload": name}]} for name in MEMBERS]
        plan = {
            "code": "SHOP", "name": "Shop", "source": HOME, "target": AWAY, "rto_s": 600, "rpo_s": 600, "waves": waves,
        }  # fmt: skip
        self.api.send("POST", "/plans", {"plan": plan})
        until(lambda: self.stage() == (AWAY, "protected"), "the group to be protected", 120)

    def crosswalk(self, source: str, target: str) -> dict[str, Any]:
        """Tests keep their addresses, live machines get those of the other site."""
        prefixes = {site.code: f"{site.lan}.0/24" for site in self.sites.lab.sites}
        live = {"action": "translate", "to": prefixes[target], "gateway": None}
        test = {"action": "keep", "to": None, "gateway": None}
        return {
            "source": source, "target": target, "networks": [{"source": "lan", "live": "lan"}],
            "host_pools": [{"source": "host", "target": "host"}],
            "storage_pools": [{"source": name, "target": "copies"} for name in ("disks", "copies")],
            "address_rules": [{"prefix": prefixes[source], "live": live, "test": test}],
        }  # fmt: skip

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
                    self.looked_at(options)
                    verdict = "passed" if need["kind"] == "verdict" else ""
                    body = {
                        "kind": ANSWERS[need["kind"]], "step": need["step"], "text": "looked at", "verdict": verdict,
                    }  # fmt: skip
                    self.api.send("POST", f"/runs/{started['id']}/controls", body)
            return status if status["outcome"] else None

        return until(ended, f"the end of {options}", 600)

    def looked_at(self, options: dict[str, Any]) -> None:
        """While a test waits for its verdict, production counts on under the addresses that its copies
        have."""
        if options["kind"] != "test":
            return
        before = self.sites.count(HOME)
        until(lambda: self.sites.count(HOME) > before, "production to count on beside the test", 60)
        self.assertEqual(self.sites.agents[AWAY].get("/pulse", "SitePulse")["copies"], len(MEMBERS))
        self.assertEqual(self.sites.state(AWAY), {}, "a copy answers outside of its isolated network")

    def test_tested_beside_production_lost_failed_over_and_brought_home(self) -> None:
        tested = self.run_through(kind="test", sync_first=True)
        self.assertEqual((tested["outcome"], tested["remains"]), ("passed", []))

        counted = self.sites.count(HOME)
        self.sites.lab.kill_agent(HOME)
        self.sites.lab.kill_machines(HOME)
        lost = self.run_through(kind="disaster", acknowledged=True, go_on=True)
        self.assertEqual(lost["outcome"], "committed")
        found = until(lambda: self.sites.count(AWAY), "the database to count under its new address", 120)
        # Points are made every 5 s, and it counts at most a few times a second.
        self.assertGreater(found + 200, counted, "more was lost than since the last point")

        # The machines were killed, so nobody knows what they changed: the disks are compared.
        self.sites.lab.start_agent(HOME)
        self.assertEqual(self.run_through(kind="re-protect")["outcome"], "protected")
        until(lambda: self.stage() == (HOME, "protected"), "the way back to be protected", 120)

        before = self.sites.count(AWAY)
        self.assertEqual(self.run_through(kind="planned", at_commit="re-protect")["outcome"], "committed")
        found = until(lambda: self.sites.count(HOME), "the database to count at home", 120)
        self.assertGreaterEqual(found, before, "a planned failover loses nothing")
        until(lambda: self.stage() == (AWAY, "protected"), "it to be protected as in the beginning", 120)
        done = self.app.command_of_django("check_integrity", "--journals")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)


if __name__ == "__main__":
    unittest.main()
