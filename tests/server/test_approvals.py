"""Second signatures: asked for, given, refused, used once, and gone without in an emergency."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from unittest import mock

from django.contrib.auth.models import User
from django.test import Client

from maestoso.engine.clock import SystemClock
from maestoso.server.approvals.models import ApprovalRequest, Rule
from maestoso.server.readiness import views as readiness_views
from maestoso.server.runs.events import read_log
from maestoso.server.runs.models import Run
from tests.server.people import make_person
from tests.server.tidewell import Tidewell

WHY = "The ferry terminal burns and nobody of the approvers picks up."


class Signed(Tidewell):
    def setUp(self) -> None:
        super().setUp()
        for name, role in (("carl", "conductor"), ("pia", "approver"), ("quinn", "approver")):
            make_person(name, roles=[role])
        for kind in ("planned", "disaster", "re-protect"):
            Rule.objects.create(plan="", kind=kind, approvals=1, hours=4)

    def as_person(self, name: str) -> Client:
        """A signed-in client."""
        client = Client()
        client.force_login(User.objects.get(username=name))
        return client

    def post(self, name: str, path: str, body: Any, method: str = "POST", **headers: str) -> Any:
        """A request of somebody."""
        with self.captureOnCommitCallbacks(execute=True):
            return self.as_person(name).generic(
                method, f"/api/v1{path}", self.json(body), content_type="application/json", headers=headers
            )

    def json(self, body: Any) -> str:
        """As it is sent."""
        import json

        return json.dumps(body)

    def ask(self, kind: str = "planned", plan: str = "HARB", **options: Any) -> int:
        """Carl asks; the number of the request."""
        sent = {"plan": plan, "options": self.options(kind, **options), "reason": "Moving house."}
        reply = self.post("carl", "/approvals", sent)
        self.assertEqual(reply.status_code, 201, reply.content)
        return int(reply.json()["id"])

    def options(self, kind: str, **more: Any) -> dict[str, Any]:
        """Choices of a run."""
        return {"kind": kind, "pace": 200, "sync_first": kind == "planned", **more}

    def answer(self, name: str, pk: int, granted: bool = True, text: str = "") -> Any:
        """Somebody answers."""
        return self.post(name, f"/approvals/{pk}/answer", {"granted": granted, "text": text})

    def start(self, approval: int = 0, kind: str = "planned", by: str = "carl", **more: Any) -> Any:
        """Carl starts."""
        sent = {
            "plan": "HARB",
            "confirm": "HARB",
            "options": self.options(kind),
            "approval": approval,
            **more,
        }
        return self.post(by, "/runs", sent, **{"Idempotency-Key": f"{by} {approval} {kind} {len(str(more))}"})

    def test_a_start_without_the_signature_that_it_needs_is_refused(self) -> None:
        body = self.problem(self.start(), 409, "needs-approval")
        self.assertEqual(body["detail"], "A planned failover of HARB needs an approval.")
        self.assertIn("ann, ben or pia may give it", body["remedy"])
        self.assertFalse(Run.objects.exists())
        preflight = self.browser.send("POST", "/plans/HARB/preflight", self.options("planned")).json()
        self.assertEqual(preflight["approvals"], 1)
        self.assertIn("pia", preflight["approvers"])
        self.assertEqual(self.start(kind="test").status_code, 201)

    def test_asked_signed_started_and_kept_in_the_log_and_the_report(self) -> None:
        pk = self.ask(decide_within_s=3600)
        self.problem(self.start(pk), 409, "needs-approval")
        reply = self.answer("pia", pk, text="Go ahead.")
        self.assertEqual(reply.json()["state"], "granted")
        run = self.start(pk)
        self.assertEqual(run.status_code, 201, run.content)
        number = run.json()["id"]
        first = read_log(number)[0]
        self.assertEqual([one["by"] for one in first.data["approvals"]], ["pia"])
        # The choices are those that were signed, not those that came with the start.
        self.assertEqual(first.data["inputs"]["live"]["decide_within_s"], 3600)
        events = self.browser.get(f"/api/v1/runs/{number}/events").json()
        self.assertEqual(events[0]["sentence"], "carl started the planned failover. Approved by pia.")
        report = self.browser.get(f"/api/v1/runs/{number}/report.json").json()
        self.assertEqual([one["by"] for one in report["approvals"]], ["pia"])
        row = ApprovalRequest.objects.get()
        self.assertEqual((row.closed, row.run), ("used", number))
        # The same key again is the same run; another start with it is none.
        self.assertEqual(self.start(pk).json()["id"], number)
        self.problem(self.start(pk, reason="once more"), 409, "needs-approval")

    def test_who_asks_does_not_sign_nor_does_a_second_account_of_one_mail(self) -> None:
        make_person("carl2", roles=["approver"])
        User.objects.filter(username__in=("carl", "carl2")).update(email="carl@tidewell.example")
        pk = self.ask()
        body = self.problem(self.answer("carl2", pk), 409, "cannot-approve")
        self.assertIn("same mail address", body["detail"])
        self.problem(self.answer("carl", pk), 403, "not-permitted")
        made = self.post("ann", "/approvals", {"plan": "HARB", "options": self.options("planned")}).json()[
            "id"
        ]
        self.assertIn("yourself", self.problem(self.answer("ann", made), 409, "cannot-approve")["detail"])

    def test_a_refusal_wants_a_reason_and_ends_it(self) -> None:
        pk = self.ask()
        self.assertEqual(
            self.problem(self.answer("pia", pk, granted=False), 400, "bad-value")["field"], "body.text"
        )
        self.assertEqual(
            self.answer("pia", pk, granted=False, text="Not on a Friday.").json()["state"], "refused"
        )
        self.problem(self.answer("quinn", pk), 409, "cannot-approve")
        self.problem(self.start(pk), 409, "needs-approval")

    def test_what_was_signed_is_not_good_for_ever_nor_for_another_version_or_plan(self) -> None:
        pk = self.ask()
        self.answer("pia", pk)
        later = SystemClock().now() + timedelta(hours=5)
        with mock.patch.object(readiness_views.CLOCK, "now", return_value=later, create=True):
            self.assertIn("is ended", self.problem(self.start(pk), 409, "needs-approval")["detail"])
        other = self.ask(plan="BOOK")
        self.answer("pia", other)
        self.problem(self.start(other), 409, "needs-approval")
        pk = self.ask()
        self.answer("pia", pk)
        plan = {**self.browser.get("/api/v1/plans/HARB").json()["plan"], "notes": "Changed."}
        saved = self.browser.send("PUT", "/plans/HARB", {"plan": plan}, **{"If-Match": '"HARB-1"'})
        self.assertEqual(saved.status_code, 201, saved.content)
        body = self.problem(self.start(pk), 409, "needs-approval")
        self.assertEqual(body["detail"], "Version 1 of HARB was approved; it is at version 2 now.")

    def test_two_signatures_are_those_of_two_people(self) -> None:
        Rule.objects.update(approvals=2)
        pk = self.ask()
        self.assertEqual(self.answer("pia", pk).json()["state"], "open")
        self.problem(self.answer("pia", pk), 409, "cannot-approve")
        self.assertEqual(self.answer("quinn", pk).json()["state"], "granted")

    def test_a_program_signs_nothing(self) -> None:
        pk = self.ask()
        make_person("root", roles=["administrator", "approver"])
        asked = {"name": "bot", "roles": ["approver"]}
        secret = self.post("root", "/account/tokens", asked).json()["secret"]
        reply = Client().post(
            f"/api/v1/approvals/{pk}/answer", {"granted": True}, content_type="application/json",
            headers={"Authorization": f"Bearer {secret}"},
        )  # fmt: skip
        self.problem(reply, 409, "cannot-approve")

    def test_withdrawn_it_cannot_be_signed(self) -> None:
        pk = self.ask()
        self.problem(self.post("ann", f"/approvals/{pk}", {}, "DELETE"), 409, "refused")
        self.assertEqual(self.post("carl", f"/approvals/{pk}", {}, "DELETE").json()["state"], "withdrawn")
        self.problem(self.answer("pia", pk), 409, "cannot-approve")
        # A new one takes the place of an older one of one's own.
        first, second = self.ask(), self.ask()
        states = {one["id"]: one["state"] for one in self.browser.get("/api/v1/approvals").json()}
        self.assertEqual((states[first], states[second]), ("withdrawn", "open"))
        board = self.browser.get("/api/v1/readiness").json()
        waits = [one for one in board["actions"] if one["to"] == f"/approvals/{second}"]
        self.assertEqual(waits[0]["title"], "Harbour core first waits for an approval")

    def test_an_emergency_starts_without_and_asks_to_be_reviewed_until_somebody_has(self) -> None:
        body = self.problem(self.start(kind="disaster", emergency="Fire!"), 400, "bad-value")
        self.assertEqual(body["field"], "body.emergency")
        self.problem(self.start(kind="planned", emergency=WHY), 409, "needs-approval")
        run = self.start(kind="disaster", emergency=WHY)
        self.assertEqual(run.status_code, 201, run.content)
        number = run.json()["id"]
        self.assertEqual(run.json()["emergency"], WHY)
        row = Run.objects.get(pk=number)
        self.assertIn("pia", row.tell)
        first = self.browser.get(f"/api/v1/runs/{number}/events").json()[0]["sentence"]
        self.assertIn("As an emergency, without the approvals that it needs: The ferry terminal burns", first)
        waits = [one for one in self.board() if "nobody has reviewed it" in one["title"]]
        self.assertEqual([one["to"] for one in waits], [f"/runs/{number}"])
        self.problem(self.post("carl", f"/runs/{number}/review", {"text": "All well."}), 403, "not-permitted")
        self.problem(self.post("pia", f"/runs/{number}/review", {"text": " "}), 400, "bad-value")
        reviewed = self.post(
            "pia", f"/runs/{number}/review", {"text": "It was right; phones are to be fixed."}
        )
        self.assertEqual(reviewed.json()["reviewed_by"], "pia")
        self.problem(self.post("quinn", f"/runs/{number}/review", {"text": "Again."}), 409, "refused")
        self.assertFalse([one for one in self.board() if "nobody has reviewed it" in one["title"]])

    def board(self) -> list[dict[str, Any]]:
        """What is to be done."""
        found: list[dict[str, Any]] = self.browser.get("/api/v1/readiness").json()["actions"]
        return found

    def test_rules_are_those_that_were_sent_or_the_field_is_named(self) -> None:
        rule = {"plan": "", "kind": "test", "approvals": 1, "hours": 8}
        reply = self.browser.send("PUT", "/approval-rules", {"rules": [rule]})
        self.assertEqual(reply.json(), {"rules": [rule]})
        self.assertEqual(self.start().status_code, 201)
        for change, field in (
            ({"kind": "party"}, "rules.0.kind"), ({"approvals": 9}, "rules.0.approvals"),
            ({"hours": 0}, "rules.0.hours"),
        ):  # fmt: skip
            body = self.problem(
                self.browser.send("PUT", "/approval-rules", {"rules": [{**rule, **change}]}), 400, "bad-value"
            )
            self.assertEqual(body["field"], field)
        self.problem(self.browser.send("PUT", "/approval-rules", {"rules": [rule, rule]}), 400, "bad-value")
        self.assertEqual(Rule.objects.count(), 1)

    def test_what_needs_no_signature_and_what_could_not_start_is_not_asked_for(self) -> None:
        self.problem(
            self.post("carl", "/approvals", {"plan": "HARB", "options": self.options("test")}), 409, "refused"
        )
        wrong = self.options("planned", pace=0)
        self.problem(self.post("carl", "/approvals", {"plan": "HARB", "options": wrong}), 400, "bad-value")
        self.assertFalse(ApprovalRequest.objects.exists())
