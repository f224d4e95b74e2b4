"""One story of two real machines through the whole application: tested beside production, lost, failed
over, home."""

from __future__ import annotations

import unittest
import uuid
from contextlib import suppress
from typing import Any

import httpx

from maestoso.real_lab.command import network
from tests.e2e.application import Api, Application, until
from tests.guests.lab import AWAY, HOME, MEMBERS, PLAN, Sites, make_known

PASSWORD = "correct-horse-battery"
ANSWERS = {"decision": "commit", "verdict": "verdict", "acknowledge": "answer"}
"""What a person says; nothing else is asked where nothing dies in between."""
STORY_S = 900.0


class Story:
    """A lab, an application, and both known to each other; production counts and is protected."""

    def __init__(self, case: unittest.TestCase) -> None:
        self.case = case
        self.answers = dict(ANSWERS)
        self.asked: set[tuple[str, str, str]] = set()
        self.sites = Sites(case)
        self.app = Application(fresh=True)
        case.addCleanup(self.app.close)
        self.sites.power_production()  # it boots while the application starts
        hosts = network(self.sites.lab)
        self.app.start("start", MAESTOSO_ADMIN_PASSWORD=PASSWORD, MAESTOSO_AGENT_HOSTS=hosts)
        self.api: Api = self.app.api()
        self.sites.production_counts()
        make_known(self.api, self.sites.lab)
        self.protected(AWAY, "the group to be protected")

    def stage(self) -> tuple[str, str]:
        """Where the group is copied to, and its stage."""
        (group,) = self.api.get("/groups")["groups"]
        return group["target"], group["stage"]

    def protected(self, code: str, what: str) -> None:
        """Wait until it is, with its copies at a site."""
        try:
            until(lambda: self.stage() == (code, "protected"), what)
        except AssertionError as error:
            newest = [self.api.status(run["id"]) for run in self.api.get("/runs")["runs"][:1]]
            raise AssertionError(f"{error}; {self.api.get('/groups')['groups']}; {newest}") from error

    def run_through(self, **options: Any) -> Any:
        """Start a run, answer what a person is asked, and wait for its end; how it stands then."""
        body = {"plan": PLAN, "confirm": PLAN, "options": options}
        started = self.start(body)

        def ended() -> Any:
            status = self.answer(started["id"])
            return status if status["outcome"] else None

        try:
            return until(ended, f"the end of {options}", STORY_S)
        except AssertionError as error:
            raise AssertionError(f"{error}; it stands so: {self.api.status(started['id'])}") from error

    def start(self, body: dict[str, Any]) -> Any:
        """Press the button."""
        return self.api.send("POST", "/runs", body, **{"Idempotency-Key": str(uuid.uuid4())})

    def answer(self, run: int) -> Any:
        """Answer once whatever a run needs from a person; how it stands."""
        status = self.api.status(run) or {"outcome": "", "needs": []}
        for need in status["needs"]:
            self.case.assertIn(need["kind"], self.answers, need)
            asked = (str(run), need["step"], need["since"])
            if asked not in self.asked:
                if need["kind"] == "verdict":
                    self.looked_at(run)
                verdict = "passed" if need["kind"] == "verdict" else ""
                body = {
                    "kind": self.answers[need["kind"]], "step": need["step"], "text": "looked at",
                    "verdict": verdict,
                }  # fmt: skip
                with suppress(httpx.HTTPStatusError):  # it has moved on meanwhile, or is asked once more
                    self.api.send("POST", f"/runs/{run}/controls", body)
                    self.asked.add(asked)
        return status

    def looked_at(self, run: int) -> None:
        """While a test waits for its verdict, production counts on under the addresses that its copies
        have."""
        before = self.sites.count(HOME)
        until(lambda: self.sites.count(HOME) > before, "production to count on beside the test")
        self.case.assertEqual(self.sites.state(AWAY), {}, "a copy answers outside of its isolated network")

        def answers() -> str:
            self.copies_run(f"t{run}")
            return self.sites.through(AWAY, 9)

        until(answers, "the copy to answer through the front door of the test")
        self.case.assertTrue(self.sites.through(HOME), "production's own front door is open beside it")
        self.copies_find_each_other(f"t{run}")

    def copies_find_each_other(self, mark: str) -> None:
        """A name of the plan is answered inside of the isolated network, at its gateway, and nowhere else."""
        agent, name = self.sites.agents[AWAY], "shop.office.example"
        record = {"name": name, "type": "A", "values": ["192.0.2.7"]}
        agent.done("name-copies", "names", run=mark, mark=mark, names=[record])
        asked = {"protocol": "dns", "port": 53, "name": name, "address": self.sites.lab.site(HOME).address(1)}
        agent.done("probe", "names", run=mark, mark=mark, timeout_s=30, **asked)
        agent.fails(
            "probe",
            "names",
            "wrong-answer",
            run=mark,
            mark=mark,
            timeout_s=1,
            **{**asked, "name": "other.example"},
        )
        agent.fails("probe", "names", "no-answer", run=mark, timeout_s=1, **asked)

    def copies_run(self, mark: str) -> None:
        """All machines of the test have power."""
        self.case.assertEqual(self.sites.agents[AWAY].get("/pulse", "SitePulse")["copies"], len(MEMBERS))

    def put_right(self, code: str) -> None:
        """What a person does at a site before they look: nothing, where nothing died."""

    def host_started_anew(self) -> None:
        """The other host has no key any more: what it has cannot be opened until it is given again, by
        itself."""
        before = self.copied()["newest"]["id"]
        self.sites.lab.kill_agent(AWAY)
        (self.sites.lab.root(AWAY) / "etc" / "secrets").rename(self.sites.lab.folder / "gone")
        self.sites.lab.start_agent(AWAY)
        until(
            lambda: self.copied()["encrypted_with"] and self.copied()["newest"]["id"] > before,
            "the key to be given again, and a point to be made with it",
        )

    def copied(self) -> Any:
        """How the agent of the other site says that the copying stands."""
        (group,) = self.sites.agents[AWAY].get("/pulse", "SitePulse")["groups"]
        return group

    def tested(self) -> None:
        """A test, beside production, of which nothing is left."""
        tested = self.run_through(kind="test", sync_first=True)
        self.case.assertEqual((tested["outcome"], tested["remains"]), ("passed", []))
        self.case.assertEqual(self.sites.through(AWAY, 9), "")

    def lost_and_failed_over(self) -> None:
        """SIGKILL to all of a site; its machines come up at the other under new addresses."""
        counted = self.sites.count(HOME)
        first = MEMBERS[-1]
        self.sites.agents[HOME].done("kill-machine", first)
        self.case.assertNotIn(first, self.sites.lab.machines(HOME))
        self.sites.agents[HOME].fails("kill-machine", first, "powered-off")
        self.sites.lab.kill_agent(HOME)
        self.sites.lab.kill_machines(HOME)
        lost = self.run_through(kind="disaster", acknowledged=True, go_on=True)
        self.case.assertEqual(lost["outcome"], "committed")
        self.put_right(AWAY)
        until(lambda: self.sites.through(AWAY), "the front door at the other site")
        found = until(lambda: self.sites.count(AWAY), "the database to count under its new address")
        # Points are made every 5 s, and it counts at most a few times a second.
        self.case.assertGreater(found + 200, counted, "more was lost than since the last point")

    def protected_again(self) -> None:
        """The machines were killed, so nobody knows what they changed: the disks are compared."""
        self.sites.lab.start_agent(HOME)
        self.case.assertEqual(self.run_through(kind="re-protect")["outcome"], "protected")
        self.protected(HOME, "the way back to be protected")
        until(lambda: not self.doors(HOME), "the site that was lost to hear that its door is open elsewhere")

    def brought_home(self) -> None:
        """By a planned failover, which loses nothing."""
        before = self.sites.count(AWAY)
        home = self.run_through(kind="planned", at_commit="re-protect")
        self.case.assertEqual(home["outcome"], "committed")
        found = until(lambda: self.sites.count(HOME), "the database to count at home")
        self.case.assertGreaterEqual(found, before, "a planned failover loses nothing")
        until(lambda: self.sites.through(HOME), "the front door at home")
        self.case.assertEqual((self.sites.through(AWAY), self.doors(AWAY)), ("", []))
        self.protected(AWAY, "it to be protected as in the beginning")

    def doors(self, code: str) -> list[str]:
        """The front doors that an agent says its site has."""
        return [one["name"] for one in self.sites.agents[code].get("/inventory", "Inventory")["front_doors"]]

    def judged(self) -> None:
        """What is written is what happened, at each site once."""
        done = self.app.command_of_django("check_integrity", "--journals")
        self.case.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        for agent in self.sites.agents.values():
            keys = [entry["key"] for entry in agent.get("/journal", "Journal", after=0)["entries"]]
            self.case.assertEqual(len(keys), len(set(keys)), "an effect is there twice")
