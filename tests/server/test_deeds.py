"""Deeds beside starts that want second signatures: saving plans, ending protection, people, committing."""

from __future__ import annotations

import json
from typing import Any

from maestoso.server.access.table import TABLE
from maestoso.server.approvals.deeds import DEEDS_BY_ADDRESS
from maestoso.server.approvals.models import ApprovalRequest
from maestoso.server.audit.models import AuditEntry
from maestoso.server.plans.models import PlanRow
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell


class Deeds(Tidewell):
    def setUp(self) -> None:
        super().setUp()
        make_person("pia", PASSWORD, ["planner"])
        make_person("ole", PASSWORD, ["approver"])
        self.pia, self.ole = Browser(), Browser()
        self.pia.sign_in("pia")
        self.ole.sign_in("ole")

    def rule(self, kind: str, plan: str = "", approvals: int = 1) -> Any:
        rules = [{"plan": plan, "kind": kind, "approvals": approvals, "hours": 8}]
        return self.browser.send("PUT", "/approval-rules", {"rules": rules})

    def asked(self, browser: Browser, method: str, path: str, body: Any = None, based_on: str = "") -> Any:
        text = "" if body is None else json.dumps(body)
        sent = {"method": method, "path": path, "body": text, "based_on": based_on, "reason": "It is time."}
        return browser.send("POST", "/approvals/deeds", sent)

    def approve(self, number: int, granted: bool = True) -> Any:
        said = {"granted": granted, "text": "Seen."}
        return self.ole.send("POST", f"/approvals/{number}/answer", said)

    def test_a_version_of_a_plan_is_saved_as_it_was_approved_and_not_otherwise(self) -> None:
        self.assertEqual(self.rule("publish", "REPT").status_code, 200)
        read = self.pia.get("/api/v1/plans/REPT")
        body, tag = read.json()["plan"], read.headers["ETag"]
        body["owner"] = "Somebody new"
        sent, path = {"plan": body, "summary": "new owner"}, "plans/REPT"
        refused = self.problem(
            self.pia.send("PUT", f"/{path}", sent, **{"If-Match": tag}), 409, "deed-needs-approval"
        )
        self.assertIn("To save a version of the plan REPT needs an approval.", refused["detail"])
        request = self.asked(self.pia, "PUT", path, sent, tag)
        self.assertEqual(request.status_code, 201, request.content)
        said = request.json()
        self.assertIn("save a version of the plan REPT", said["plan_name"])
        self.assertTrue(
            any("owner" in line.lower() for line in said["deed"]["details"]), said["deed"]["details"]
        )
        number = said["id"]
        with_it = {"If-Match": tag, "Maestoso-Approval": str(number)}
        self.problem(self.pia.send("PUT", f"/{path}", sent, **with_it), 409, "deed-needs-approval")
        self.assertEqual(self.approve(number).status_code, 200)
        other = {**sent, "summary": "something else"}
        self.problem(self.pia.send("PUT", f"/{path}", other, **with_it), 409, "deed-needs-approval")
        self.problem(self.browser.send("PUT", f"/{path}", sent, **with_it), 409, "deed-needs-approval")
        saved = self.pia.send("PUT", f"/{path}", sent, **with_it)
        self.assertEqual(saved.status_code, 201, saved.content)
        newest = AuditEntry.objects.first()
        assert newest is not None
        self.assertEqual(newest.did, f"Saved a version of the plan REPT (approved: request {number})")
        self.assertEqual(self.pia.get(f"/api/v1/approvals/{number}").json()["state"], "used")
        self.problem(self.pia.send("PUT", f"/{path}", sent, **with_it), 409, "deed-needs-approval")
        # Plans without a rule are saved as ever.
        read = self.pia.get("/api/v1/plans/HARB")
        sent = {"plan": {**read.json()["plan"], "owner": "Somebody new"}}
        free = self.pia.send("PUT", "/plans/HARB", sent, **{"If-Match": read.headers["ETag"]})
        self.assertEqual(free.status_code, 201, free.content)

    def test_what_could_not_be_done_has_not_used_its_approval(self) -> None:
        self.rule("retire")
        number = self.asked(self.pia, "DELETE", "workloads/book-db-1").json()["id"]
        self.approve(number)
        reply = self.pia.send("DELETE", "/workloads/book-db-1", "", **{"Maestoso-Approval": str(number)})
        self.assertGreaterEqual(reply.status_code, 400)
        self.assertEqual(self.pia.get(f"/api/v1/approvals/{number}").json()["state"], "granted")

    def test_one_refusal_is_enough_and_the_asker_can_withdraw(self) -> None:
        self.rule("end-protection")
        group = self.browser.get("/api/v1/groups").json()["groups"][0]["code"]
        number = self.asked(self.pia, "DELETE", f"groups/{group}").json()["id"]
        self.assertEqual(self.approve(number, granted=False).json()["state"], "refused")
        reply = self.pia.send("DELETE", f"/groups/{group}", "", **{"Maestoso-Approval": str(number)})
        self.assertIn("is refused", self.problem(reply, 409, "deed-needs-approval")["detail"])
        again = self.asked(self.pia, "DELETE", f"groups/{group}").json()["id"]
        self.assertEqual(self.pia.send("DELETE", f"/approvals/{again}").json()["state"], "withdrawn")

    def test_what_cannot_be_read_is_not_asked_for_and_what_is_gone_can_still_be_looked_at(self) -> None:
        self.rule("publish")
        for body in ({}, {"plan": 5}, None):
            self.assertEqual(self.asked(self.pia, "PUT", "plans/REPT", body).status_code, 400)
        read = self.pia.get("/api/v1/plans/REPT")
        sent = {"plan": {**read.json()["plan"], "owner": "Somebody new"}}
        asked = self.asked(self.pia, "PUT", "plans/REPT", sent, read.headers["ETag"]).json()
        self.assertEqual(self.browser.send("DELETE", "/plans/REPT").status_code, 204)
        (listed,) = [one for one in self.pia.get("/api/v1/approvals").json() if one["deed"]]
        self.assertEqual(listed["deed"]["details"], asked["deed"]["details"])

    def test_nobody_becomes_who_would_have_to_approve(self) -> None:
        self.rule("people")
        for method, path in (("POST", "/people/ole/invitation"), ("DELETE", "/people/ole/second-factor")):
            self.problem(self.browser.send(method, path), 409, "deed-needs-approval")
        number = self.asked(self.browser, "POST", "people/pia/invitation").json()["id"]
        self.approve(number)
        made = self.browser.generic("POST", "/api/v1/people/pia/invitation",
                                    headers={"X-CSRFToken": self.browser.token, "Maestoso-Approval": str(number)})  # fmt: skip
        self.assertEqual(made.status_code, 200, made.content)
        self.assertIn("/invitation/pia/", made.json()["link"])

    def test_rules_about_people_protect_themselves(self) -> None:
        # Ann sets it; Ben and Ole can approve.
        self.assertEqual(self.rule("people").status_code, 200)
        self.problem(self.browser.send("PUT", "/approval-rules", {"rules": []}), 409, "deed-needs-approval")
        person = {"full_name": "Pia", "mail": "", "active": True, "roles": ["administrator"]}
        self.problem(self.browser.send("PUT", "/people/pia", person), 409, "deed-needs-approval")
        number = self.asked(self.browser, "PUT", "people/pia", person).json()["id"]
        self.assertIn(
            "roles: administrator", self.ole.get(f"/api/v1/approvals/{number}").json()["deed"]["details"]
        )
        self.approve(number)
        done = self.browser.send("PUT", "/people/pia", person, **{"Maestoso-Approval": str(number)})
        self.assertEqual(done.status_code, 200, done.content)

    def test_a_rule_that_nobody_could_change_any_more_is_not_made(self) -> None:
        self.assertIn(
            "3 would have to", self.problem(self.rule("people", approvals=3), 409, "refused")["detail"]
        )
        self.problem(self.rule("retire", plan="REPT"), 400, "bad-value")
        self.problem(self.rule("dance"), 400, "bad-value")

    def test_what_is_asked_for_must_want_an_approval_and_be_ones_own_to_do(self) -> None:
        self.problem(self.asked(self.pia, "DELETE", "plans/REPT"), 409, "refused")
        self.rule("people")
        self.problem(self.asked(self.pia, "POST", "people", {"name": "x"}), 403, "not-permitted")
        self.problem(self.asked(self.pia, "GET", "plans"), 404, "not-found")
        self.problem(self.asked(self.pia, "DELETE", "no/such/address"), 404, "not-found")
        bad = {"method": "DELETE", "path": "plans/REPT", "body": "{", "reason": ""}
        self.problem(self.pia.send("POST", "/approvals/deeds", bad), 400, "bad-value")
        self.assertEqual(ApprovalRequest.objects.filter(deed__isnull=False).count(), 0)

    def test_of_what_runs_are_told_only_a_commit_wants_one(self) -> None:
        self.rule("commit")
        self.problem(self.browser.send("POST", "/runs/99/controls", {"kind": "commit"}, **{"Idempotency-Key": "a"}),
                     409, "deed-needs-approval")  # fmt: skip
        self.problem(self.browser.send("POST", "/runs/99/controls", {"kind": "roll-back"}, **{"Idempotency-Key": "b"}),
                     404, "not-found")  # fmt: skip

    def test_the_board_says_who_waits(self) -> None:
        self.rule("retire")
        self.asked(self.pia, "DELETE", "plans/REPT")
        actions = self.browser.get("/api/v1/readiness").json()["actions"]
        (one,) = [one for one in actions if one["title"] == "pia waits for an approval"]
        self.assertEqual(one["sentence"], "pia wants to retire the plan REPT. 0 of 1 have approved.")
        self.assertTrue(PlanRow.objects.filter(code="REPT").exists())

    def test_every_deed_is_of_an_address_that_there_is(self) -> None:
        for address, method in DEEDS_BY_ADDRESS:
            with self.subTest(address=address, method=method):
                self.assertIn(method, TABLE[address])
