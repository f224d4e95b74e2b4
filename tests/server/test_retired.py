"""What is retired has a place, and a way back; a plan without purpose is offered for it."""

from __future__ import annotations

import json
from typing import Any

from django.core.cache import cache

from maestoso.engine.clock import SystemClock
from maestoso.server.audit.models import AuditEntry
from maestoso.server.estate.models import Site
from maestoso.server.outbox.services import ask_for
from maestoso.server.plans.models import PlanRow
from maestoso.server.protection.models import GroupRow
from maestoso.server.runs.models import KeptFence, Run, RunEvent
from maestoso.server.scripts.models import Script
from tests.server.tidewell import Tidewell


class Retired(Tidewell):
    """With the demo."""

    def get(self, path: str) -> Any:
        """The body of a reply."""
        cache.clear()
        reply = self.browser.get(f"/api/v1{path}")
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        return reply.json()

    def test_a_site_of_which_runs_say_what_was_fenced_there_stays(self) -> None:
        site = Site.objects.create(code="OLD", name="Old", kind="cloud", agent_url="http://127.0.0.1:9")
        run = Run.objects.create(
            plan_code="X", plan_name="X", plan_version=1, kind="disaster", source="OLD", target="HIL",
            started_by="ann", started_at=SystemClock().now(), rto_objective_s=1, chain_head="0" * 64,
            outcome="committed",
        )  # fmt: skip
        request = ask_for(site, "fence", "x", {}, by="run", insists=True)
        KeptFence.objects.create(run=run, site=site, workload="x", request=request)
        reply = self.browser.send("DELETE", "/sites/OLD")
        self.assertEqual((reply.status_code, reply.json()["code"]), (409, "in-use"), reply.content)
        self.assertTrue(Site.objects.filter(code="OLD").exists())

    def retire(self, path: str) -> int:
        """Retire something; its number among what is retired."""
        reply = self.browser.send("DELETE", path)
        self.assertEqual(reply.status_code, 204, reply.content)
        first = self.get("/retired")[0]
        self.assertEqual(first["by"], "ann")
        return int(first["id"])

    def back(self, number: int) -> Any:
        """Bring it back."""
        return self.browser.send("POST", f"/retired/{number}/back", {})

    def test_a_plan_comes_back_with_all_its_versions(self) -> None:
        before = self.get("/plans/REPT")
        number = self.retire("/plans/REPT")
        self.assertEqual(self.browser.get("/api/v1/plans/REPT").status_code, 404)
        self.assertEqual(self.back(number).json(), {"page": "/plans/REPT"})
        self.assertEqual(self.get("/plans/REPT"), before)
        self.assertEqual(self.get("/retired"), [])
        self.problem(self.back(number), 404, "not-found")

    def test_it_does_not_come_back_over_another_of_its_name(self) -> None:
        body = self.get("/plans/REPT")["plan"]
        number = self.retire("/plans/REPT")
        self.assertEqual(self.browser.send("POST", "/plans", {"plan": body}).status_code, 201)
        self.problem(self.back(number), 409, "refused")
        self.assertEqual(len(self.get("/retired")), 1)
        self.assertEqual(PlanRow.objects.filter(code="REPT").count(), 1)

    def test_a_workload_comes_back_as_it_was(self) -> None:
        before = self.get("/workloads/rig-03")["workload"]
        number = self.retire("/workloads/rig-03")
        self.assertEqual(self.browser.get("/api/v1/workloads/rig-03").status_code, 404)
        self.assertEqual(self.back(number).json()["page"], "/estate?open=rig-03")
        self.assertEqual(self.get("/workloads/rig-03")["workload"], before)

    def test_a_site_comes_back_with_its_agent_and_no_secret_is_in_the_trail(self) -> None:
        known = Site.objects.get(code="NOR")
        token = known.agent_token
        Site.objects.create(
            code="OLD", name="Oldtown", kind="datacentre", agent_url=known.agent_url, agent_token=token,
            inventory=known.inventory,
        )  # fmt: skip
        number = self.retire("/sites/OLD")
        self.assertFalse(Site.objects.filter(code="OLD").exists())
        self.assertEqual(self.back(number).json()["page"], "/estate/sites")
        back = Site.objects.get(code="OLD")
        self.assertEqual((back.agent_token, back.inventory), (token, known.inventory))
        self.assertNotIn(token, json.dumps(list(AuditEntry.objects.values_list("changed", flat=True))))

    def test_a_group_comes_back_with_its_key_and_is_copied_anew(self) -> None:
        row = GroupRow.objects.get(code="booking-app")
        known = (row.key_fingerprint, {m.workload.name for m in row.members.all()})
        self.assertTrue(row.key)
        number = self.retire("/groups/booking-app")
        self.assertEqual(self.back(number).json()["page"], "/protection/booking-app")
        row = GroupRow.objects.get(code="booking-app")
        self.assertEqual((row.key_fingerprint, {m.workload.name for m in row.members.all()}), known)
        self.assertEqual(row.stage, "seeding")

    def test_scripts_links_and_crosswalks_come_back(self) -> None:
        for plan in ("REPT", "ALL"):
            if PlanRow.objects.filter(code=plan).exists():
                self.retire(f"/plans/{plan}")
        for group in GroupRow.objects.filter(source__code="HIL"):
            self.retire(f"/groups/{group.code}")
        kept: dict[str, Any] = {
            "/crosswalks/HIL/NOR": "/crosswalks/HIL/NOR", "/links/HIL/NOR": "/estate/sites",
        }  # fmt: skip
        for path, page in kept.items():
            with self.subTest(path):
                self.assertEqual(self.back(self.retire(path)).json()["page"], page)
        script = {"interpreter": "sh", "text": "echo 1", "note": ""}
        self.assertEqual(self.browser.send("PUT", "/scripts/try-it", script).status_code, 200)
        self.assertEqual(self.back(self.retire("/scripts/try-it")).json()["page"], "/scripts")
        self.assertTrue(Script.objects.filter(name="try-it", text="echo 1").exists())

    def test_a_plan_that_a_relocation_left_without_purpose_is_offered_for_retirement(self) -> None:
        def offered() -> list[str]:
            return [one["to"] for one in self.get("/readiness")["actions"] if "no purpose" in one["title"]]

        body = {
            "plan": "REPT",
            "confirm": "REPT",
            "options": {"kind": "planned", "at_commit": "end-protection", "pace": 20},
        }
        sent = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "relocate"})
        self.assertEqual(sent.status_code, 201, sent.content)
        run = Run.objects.get(pk=sent.json()["id"])
        live = RunEvent.objects.get(run=run, seq=1).data["inputs"]["live"]
        self.assertEqual(live["at_commit"], "end-protection")
        GroupRow.objects.filter(source__code="HIL").delete()
        self.assertEqual(offered(), [])
        Run.objects.filter(pk=run.pk).update(outcome="committed")
        self.assertEqual(offered(), ["/plans/REPT?retire=1"])
        said = [one["title"] for one in self.get("/readiness")["actions"]]
        self.assertNotIn("Reporting to Northgate cannot run now", said)
