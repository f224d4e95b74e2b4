"""Roles that an organisation makes itself of the permissions that there are."""

from __future__ import annotations

from typing import Any

from maestoso.server.access.models import OwnRole
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell

NIGHT = {"name": "Night operator", "words": "Tests at night.", "permissions": ["run-tests", "answer"]}


class OwnRoles(Tidewell):
    def make(self, **change: Any) -> Any:
        return self.browser.send("POST", "/roles", {**NIGHT, **change})

    def test_who_has_one_may_what_it_says_and_sees(self) -> None:
        made = self.make()
        self.assertEqual(made.status_code, 201, made.content)
        role = made.json()
        self.assertEqual(
            (role["code"], role["holds"], role["own"]),
            ("night-operator", ["see", "answer", "run-tests"], True),
        )
        make_person("nick", PASSWORD, ["night-operator"])
        his = Browser()
        session = his.sign_in("nick").json()
        self.assertEqual(session["permissions"], ["see", "answer", "run-tests"])
        self.assertEqual(
            session["lacking"]["run-live"],
            "Your role (night operator) does not include: start, steer, commit and roll back live runs. "
            "Ask ann or ben, who may.",
        )
        self.assertEqual(his.get("/api/v1/plans").status_code, 200)
        self.problem(his.send("PUT", "/settings", {}), 403, "not-permitted")
        # It can be taken back, or given more, for all who have it at once.
        reply = self.browser.send(
            "PUT", "/roles/night-operator/definition", {**NIGHT, "permissions": ["read-audit"]}
        )
        self.assertEqual(reply.json()["holds"], ["see", "read-audit"])
        self.assertEqual(his.get("/api/v1/audit").status_code, 200)
        self.assertNotIn("run-tests", his.get("/api/v1/session").json()["permissions"])

    def test_whoever_is_able_by_an_own_role_is_named(self) -> None:
        self.make(permissions=["run-live"])
        make_person("nick", PASSWORD, ["night-operator"])
        make_person("vera", PASSWORD, ["viewer"])
        vera = Browser()
        self.assertIn("Ask ann, ben or nick", vera.sign_in("vera").json()["lacking"]["run-live"])

    def test_it_is_asked_for_a_second_factor_like_any_other(self) -> None:
        self.make()
        make_person("nick", PASSWORD, ["night-operator"])
        self.browser.send("PUT", "/roles/night-operator", {"second_factor": True})
        self.assertIn("As night operator you must", Browser().sign_in("nick").json()["restricted"])

    def test_a_hold_can_ask_for_one(self) -> None:
        plan = self.browser.get("/api/v1/plans/REPT")
        body = plan.json()["plan"]
        cue = {"id": "ask", "title": "Ask", "hold": {"instruction": "Look.", "who": ["role:night-operator"]}}
        body["waves"][0]["cues"] = [cue]
        sent = {"plan": body, "summary": "ask at night"}
        refused = self.browser.send("PUT", "/plans/REPT", sent, **{"If-Match": plan.headers["ETag"]})
        self.assertIn(
            "night-operator, which is no role", self.problem(refused, 409, "cue-malformed")["detail"]
        )
        self.make()
        saved = self.browser.send("PUT", "/plans/REPT", sent, **{"If-Match": plan.headers["ETag"]})
        self.assertEqual(saved.status_code, 201, saved.content)

    def test_what_cannot_be_is_refused(self) -> None:
        self.make()
        self.problem(self.make(), 409, "refused")
        self.problem(self.make(name="viewer"), 409, "refused")
        for field, value in (
            ("name", "!!"),
            ("name", "x" * 41),
            ("permissions", ["fly"]),
            ("words", "w" * 201),
        ):
            with self.subTest(field=field):
                self.assertEqual(self.problem(self.make(**{field: value}), 400, "bad-value")["field"], field)
        self.problem(self.browser.send("PUT", "/roles/viewer/definition", NIGHT), 409, "refused")
        self.problem(self.browser.send("DELETE", "/roles/viewer"), 409, "refused")
        self.problem(self.browser.send("DELETE", "/roles/nothing"), 404, "not-found")
        make_person("nick", PASSWORD, ["night-operator"])
        self.assertIn(
            "1 person has",
            self.problem(self.browser.send("DELETE", "/roles/night-operator"), 409, "refused")["detail"],
        )
        nick = {"full_name": "Nick", "mail": "", "active": True, "roles": ["viewer"]}
        self.assertEqual(self.browser.send("PUT", "/people/nick", nick).status_code, 200)
        self.assertEqual(self.browser.send("DELETE", "/roles/night-operator").status_code, 204)
        self.assertFalse(OwnRole.objects.exists())
