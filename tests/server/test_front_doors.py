"""Front doors in the records: written down, mapped, said before a run, and at home where their workloads are."""

from __future__ import annotations

from typing import Any

import httpx

from maestoso.core.model.estate import FrontDoor
from maestoso.server.audit.models import AuditEntry
from maestoso.server.estate.agents import ask
from maestoso.server.estate.models import Site
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.services import deliver_waiting
from maestoso.server.runs.fences import give_up_what_is_fenced
from tests.e2e.application import until
from tests.server.test_live_runs import CLOCK, Live
from tests.server.tidewell import Tidewell

HOME, AWAY = "203.0.113.10", "198.51.100.10"
MAIL = {
    "name": "mail-front",
    "address": "203.0.113.11",
    "ports": ["tcp/25"],
    "workload": "mail-01",
    "sources": ["192.0.2.0/24"],
}


def doors(code: str) -> tuple[FrontDoor, ...]:
    """What the records say of a site."""
    return Site.objects.get(code=code).things().front_doors


class InTheEstate(Tidewell):
    def site(self, code: str) -> Any:
        """A site as the page has it."""
        return next(one for one in self.browser.get("/api/v1/sites").json()["sites"] if one["code"] == code)

    def test_a_site_says_which_it_has_and_which_it_can_have(self) -> None:
        has = self.site("QUA")
        self.assertEqual([one["address"] for one in has["front_doors"]], [HOME])
        self.assertEqual(
            (has["door_addresses"], self.site("NOR")["door_addresses"]), (["203.0.113.0/28"], [])
        )

    def test_one_is_written_down_told_to_its_site_and_taken_away_again(self) -> None:
        reply = self.browser.send("PUT", "/sites/QUA/front-doors/mail-front", MAIL)
        self.assertEqual(reply.status_code, 200, reply.content)
        said = ask(Site.objects.get(code="QUA"), lambda agent: agent.inventory())
        self.assertEqual([one.name for one in said.front_doors], ["booking-front", "mail-front"])
        self.assertEqual(self.site("QUA")["drifted"], 0)
        entry = AuditEntry.objects.first()
        assert entry is not None
        self.assertEqual(entry.did, "Changed the front door mail-front at QUA")
        for change, sentence in (
            ({"address": "nowhere"}, "is no address"), ({"ports": ["25"]}, "is no port"), ({"ports": []}, "has no ports"),
        ):  # fmt: skip
            body = self.problem(
                self.browser.send("PUT", "/sites/QUA/front-doors/mail-front", {**MAIL, **change}),
                400,
                "bad-value",
            )
            self.assertEqual(body["field"], "body.front_doors")
            self.assertIn(sentence, body["detail"])
        self.assertEqual(self.browser.send("DELETE", "/sites/QUA/front-doors/mail-front").status_code, 204)
        self.assertEqual([one.name for one in doors("QUA")], ["booking-front"])

    def test_what_a_crosswalk_names_is_not_taken_away(self) -> None:
        body = self.problem(
            self.browser.send("DELETE", "/sites/QUA/front-doors/booking-front"), 409, "in-use"
        )
        self.assertIn("the crosswalk QUA to HIL names it", body["detail"])

    def test_what_an_agent_says_otherwise_is_a_difference_and_can_be_accepted(self) -> None:
        site = Site.objects.get(code="QUA")
        kept = {**site.inventory, "front_doors": []}
        Site.objects.filter(pk=site.pk).update(inventory=kept, inventory_mark="another")
        found = self.browser.get("/api/v1/sites/QUA/drift").json()["differences"]
        self.assertEqual(
            [(one["kind"], one["name"], one["change"]) for one in found],
            [("front door", "booking-front", "new")],
        )
        self.browser.send("POST", "/sites/QUA/drift", {"ids": [found[0]["id"]]})
        self.assertEqual([one.name for one in doors("QUA")], ["booking-front"])

    def test_a_crosswalk_says_where_they_open(self) -> None:
        detail = self.browser.get("/api/v1/crosswalks/QUA/HIL").json()
        self.assertEqual([one["name"] for one in detail["source_doors"]], ["booking-front"])
        self.assertEqual(detail["targets"]["door_addresses"], ["198.51.100.0/28"])
        crosswalk = detail["crosswalk"]
        (row,) = crosswalk["front_doors"]
        asked = {"crosswalk": {**crosswalk, "front_doors": [{**row, "live": "", "test": ""}]}}
        (door,) = self.browser.send("POST", "/crosswalks/landings", asked).json()["doors"]
        self.assertEqual((door["before"], door["live"], door["test"]), (HOME, HOME, ""))
        bad = {**crosswalk, "front_doors": [{**row, "test": "198.51.100.300"}]}
        reply = self.browser.send(
            "PUT", "/crosswalks/QUA/HIL", bad, **{"If-Match": f'"{detail["revision"]}"'}
        )
        self.assertEqual(self.problem(reply, 400, "bad-value")["field"], "body.front_doors[0].test")
        (planned,) = self.browser.get("/api/v1/plans/BOOK/landings").json()["doors"]
        self.assertEqual((planned["workload"], planned["live"]), ("web-01", AWAY))
        self.assertEqual(self.browser.get("/api/v1/plans/HARB/landings").json()["doors"], [])

    def test_before_a_run_it_is_said_what_opens_and_what_closes(self) -> None:
        def said(kind: str) -> str:
            told = self.browser.send("POST", "/plans/BOOK/preflight", {"kind": kind}).json()["consequences"]
            return next(one for one in told if "booking-front" in one)

        self.assertIn(
            f"opens at {AWAY} at Hilltop and leads to web-01 there; {HOME} at Quayside closes before",
            said("planned"),
        )
        self.assertIn("closes first if that site answers, else as soon as it does", said("disaster"))
        self.assertIn("for the copy of web-01; at Quayside it stays as it is", said("test"))


class InARun(Live):
    def test_committed_it_is_at_home_where_its_workload_is(self) -> None:
        run = self.play("BOOK", "planned")
        self.assertEqual(run.outcome, "committed")
        self.assertEqual((doors("QUA"), [one.address for one in doors("HIL")]), ((), [AWAY]))
        found = self.browser.get(f"/api/v1/runs/{run.pk}/landings").json()["outcomes"]
        (door,) = [one for one in found if one["nic"] == "front door booking-front"]
        self.assertEqual(
            (door["planned"], door["actual"], door["differs"]), (f"{AWAY}, tcp/443",) * 2 + ("",)
        )

    def test_rolled_back_nothing_is_written_down(self) -> None:
        self.play("BOOK", "planned", "roll-back")
        self.assertEqual(([one.address for one in doors("QUA")], doors("HIL")), ([HOME], ()))

    def outside(self) -> int:
        """What somebody gets who comes to the old door from outside."""
        url = Site.objects.get(code="QUA").agent_url
        return httpx.get(f"{url}/outside/{HOME}/443", timeout=20, trust_env=False).status_code

    def test_a_lost_source_closes_its_doors_as_soon_as_it_answers_and_not_only_after_the_commit(self) -> None:
        self.assertEqual(self.outside(), 200)
        run = self.undecided("BOOK", "disaster", lost=True, go_on=True)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual((self.outside(), [one.address for one in doors("QUA")]), (502, [HOME]))
        self.go_on(run, "roll-back")
        self.assertEqual(run.outcome, "rolled back")
        asked = [one.verb for one in SiteRequest.objects.filter(site__code="QUA", subject="run")]
        self.assertEqual(asked, ["withdraw-address", "publish-address"])
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        until(lambda: self.outside() == 200, "the old door to open again")

    def test_a_door_that_was_never_closed_is_not_opened_again(self) -> None:
        self.play("BOOK", "disaster", "roll-back", lost=True, go_on=True)
        asked = [(one.verb, one.status) for one in SiteRequest.objects.filter(subject="run")]
        self.assertEqual(asked, [("withdraw-address", "withdrawn")])

    def test_a_lost_source_is_told_which_doors_are_open_elsewhere(self) -> None:
        run = self.play("BOOK", "disaster", lost=True, go_on=True)
        self.assertEqual(run.outcome, "committed")
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        give_up_what_is_fenced(CLOCK)
        told = SiteRequest.objects.get(verb="give-up")
        self.assertEqual(told.args["doors"], ["booking-front"])
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        said = ask(Site.objects.get(code="QUA"), lambda agent: agent.inventory())
        self.assertEqual(said.front_doors, ())
