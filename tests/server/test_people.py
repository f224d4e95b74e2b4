"""People: invited, given roles, disabled; their accounts, sessions and tokens."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from unittest import mock

from django.contrib.auth.models import User
from django.test import Client

from maestoso.engine.clock import SystemClock
from maestoso.server.access import tokens
from maestoso.server.access.models import ApiToken
from maestoso.server.audit.models import AuditEntry
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell

CHOSEN = "a-passphrase-of-her-own"
NILA = {"name": "nila", "full_name": "Nila Orme", "mail": "nila@tidewell.example", "roles": ["planner"]}


class Invited(Tidewell):
    def invite(self, **change: Any) -> Any:
        """Invite Nila; the answer."""
        return self.browser.send("POST", "/people", {**NILA, **change})

    def link(self) -> tuple[str, str]:
        """Name and secret of a link to Nila."""
        reply = self.invite()
        self.assertEqual(reply.status_code, 201, reply.content)
        _, _, name, secret = reply.json()["link"].split("/")
        return name, secret

    def accept(self, name: str, secret: str, password: str = CHOSEN) -> tuple[Browser, Any]:
        """Open the link in another browser and choose a password."""
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        sent = {"name": name, "secret": secret, "password": password}
        return browser, browser.send("POST", "/invitations", sent)

    def test_from_the_invitation_to_what_she_may_do(self) -> None:
        name, secret = self.link()
        person = {one["name"]: one for one in self.browser.get("/api/v1/people").json()["people"]}["nila"]
        self.assertEqual((person["state"], person["roles"]), ("invited", ["planner"]))
        browser, reply = self.accept(name, secret)
        self.assertEqual(reply.status_code, 200, reply.content)
        session = reply.json()
        self.assertEqual((session["name"], session["roles"]), ("nila", ["planner"]))
        self.assertIn("change-plans", session["permissions"])
        self.assertEqual(
            session["lacking"]["run-live"],
            "Your role (planner) does not include: start, steer, commit and roll back live runs. "
            "Ask ann or ben, who may.",
        )
        self.assertEqual(browser.get("/api/v1/plans").status_code, 200)
        self.problem(browser.get("/api/v1/audit"), 403, "not-permitted")
        again = Browser()
        self.assertEqual(again.sign_in("nila", CHOSEN).status_code, 200)

    def test_a_link_is_good_once_and_says_the_same_of_whatever_is_wrong(self) -> None:
        name, secret = self.link()
        self.assertEqual(self.accept(name, secret)[1].status_code, 200)
        said = {
            self.problem(self.accept(*pair)[1], 403, "bad-invitation")["detail"]
            for pair in ((name, secret), (name, "x"), ("nobody", secret), ("ann", secret))
        }
        self.assertEqual(said, {"This link is not good: it was used, has ended, or is not whole."})

    def test_a_weak_password_is_refused_and_the_link_stays_good(self) -> None:
        name, secret = self.link()
        for weak in ("short", "nila@tidewell.example"):
            body = self.problem(self.accept(name, secret, weak)[1], 400, "bad-value")
            self.assertEqual(body["field"], "password")
        self.assertEqual(self.accept(name, secret)[1].status_code, 200)

    def test_a_session_that_was_planted_is_not_the_one_that_is_signed_in(self) -> None:
        name, secret = self.link()
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        browser.cookies["maestoso_session"] = "planted"
        sent = {"name": name, "secret": secret, "password": CHOSEN}
        self.assertEqual(browser.send("POST", "/invitations", sent).status_code, 200)
        self.assertNotEqual(browser.cookies["maestoso_session"].value, "planted")

    def test_bad_input_names_the_field_and_invites_nobody(self) -> None:
        for change, field in (
            ({"name": "ma ra"}, "name"), ({"name": ""}, "name"), ({"full_name": " "}, "full_name"),
            ({"mail": "nowhere"}, "mail"), ({"roles": ["emperor"]}, "roles"),
        ):  # fmt: skip
            with self.subTest(change):
                self.assertEqual(self.problem(self.invite(**change), 400, "bad-value")["field"], field)
        self.problem(self.invite(is_superuser=True), 400, "bad-value")
        self.problem(self.invite(name="ANN"), 409, "refused")
        self.assertFalse(User.objects.filter(email=NILA["mail"]).exists())

    def test_who_may_not_manage_people_invites_nobody(self) -> None:
        make_person("carl", password=PASSWORD, roles=["conductor"])
        browser = Browser()
        browser.sign_in("carl")
        self.problem(browser.send("POST", "/people", NILA), 403, "not-permitted")
        entry = AuditEntry.objects.first()
        assert entry is not None
        self.assertEqual((entry.by, entry.did), ("carl", "Invited nila (refused: not-permitted)"))


class Reading(Tidewell):
    def save(self, **change: str) -> Any:
        """Choose how to read."""
        sent = {"time_zone": "Asia/Kathmandu", "dates": "numbers", "theme": "night", **change}
        return self.browser.send("PUT", "/account/reading", sent)

    def test_everybody_chooses_how_they_read(self) -> None:
        nothing = {"time_zone": "", "dates": "words", "theme": ""}
        self.assertEqual(Browser().get("/api/v1/session").json()["reading"], nothing)
        self.assertEqual(self.browser.get("/api/v1/session").json()["reading"], nothing)
        reply = self.save()
        self.assertEqual(reply.status_code, 200, reply.content)
        chosen = {"time_zone": "Asia/Kathmandu", "dates": "numbers", "theme": "night"}
        self.assertEqual(reply.json()["reading"], chosen)
        self.assertEqual(self.browser.get("/api/v1/session").json()["reading"], chosen)
        other = Browser()
        other.sign_in("ben")
        self.assertEqual(other.get("/api/v1/session").json()["reading"], nothing)
        entry = AuditEntry.objects.get(path="account/reading")
        self.assertEqual((entry.by, entry.did), ("ann", "Chose how they read dates and pages"))

    def test_what_cannot_be_is_refused_by_its_field(self) -> None:
        for change, field in (
            ({"time_zone": "Nowhere/Island"}, "time_zone"), ({"time_zone": "../etc"}, "time_zone"),
            ({"dates": "roman"}, "dates"), ({"theme": "dusk"}, "theme"),
        ):  # fmt: skip
            with self.subTest(change):
                self.assertIn(field, self.problem(self.save(**change), 400, "bad-value")["field"])


class Changed(Tidewell):
    def save(self, name: str, **change: Any) -> Any:
        """Change somebody."""
        body = {"full_name": name.title(), "mail": "", "active": True, "roles": ["administrator"], **change}
        return self.browser.send("PUT", f"/people/{name}", body)

    def test_roles_are_given_and_taken_in_the_trail(self) -> None:
        self.assertEqual(
            self.save("ben", roles=["operator", "auditor"]).json()["roles"], ["auditor", "operator"]
        )
        entry = AuditEntry.objects.first()
        assert entry is not None
        told = [(one["what"], one["after"] is None) for one in entry.changed if "role grant" in one["what"]]
        self.assertEqual(
            sorted(told),
            [
                ("role grant administrator of ben", True), ("role grant auditor of ben", False),
                ("role grant operator of ben", False),
            ],
        )  # fmt: skip

    def test_whoever_is_disabled_is_out_at_once(self) -> None:
        ben = Browser()
        ben.sign_in("ben")
        self.assertEqual(self.save("ben", active=False).json()["state"], "disabled")
        self.problem(ben.get("/api/v1/plans"), 403, "not-signed-in")
        self.problem(Browser().sign_in("ben"), 403, "wrong-sign-in")
        self.problem(self.browser.send("POST", "/people/ben/invitation"), 409, "refused")

    def test_the_last_administrator_stays_one(self) -> None:
        User.objects.filter(username="administrator").update(is_active=False)
        self.assertEqual(self.save("ben", roles=[]).status_code, 200)
        for change in ({"roles": ["viewer"]}, {"active": False}):
            body = self.problem(self.save("ann", **change), 409, "last-administrator")
            self.assertEqual(body["detail"], "ann is the only administrator who can sign in with a password.")
        # Somebody who was invited and has not come cannot take it over.
        self.browser.send("POST", "/people", {**NILA, "roles": ["administrator"]})
        self.problem(self.save("ann", roles=[]), 409, "last-administrator")

    def test_nobody_of_that_name_is_said(self) -> None:
        self.problem(self.save("zoe"), 404, "not-found")


class OwnAccount(Tidewell):
    def test_a_new_password_ends_all_other_sessions(self) -> None:
        other = Browser()
        other.sign_in("ann")
        self.problem(
            self.browser.send("POST", "/account/password", {"password": "wrong", "new_password": CHOSEN}), 403,
            "wrong-sign-in",
        )  # fmt: skip
        sent = {"password": PASSWORD, "new_password": CHOSEN}
        self.assertEqual(self.browser.send("POST", "/account/password", sent).status_code, 200)
        self.problem(other.get("/api/v1/plans"), 403, "not-signed-in")
        self.assertEqual(self.browser.get("/api/v1/plans").status_code, 200)
        self.assertNotIn(CHOSEN, str(list(AuditEntry.objects.values_list("sent", flat=True))))

    def test_signing_out_everywhere_else(self) -> None:
        other = Browser()
        other.sign_in("ann")
        ben = Browser()
        ben.sign_in("ben")
        self.assertEqual(len(self.browser.get("/api/v1/account").json()["sessions"]), 2)
        left = self.browser.send("DELETE", "/account/sessions").json()["sessions"]
        self.assertEqual([one["here"] for one in left], [True])
        self.problem(other.get("/api/v1/plans"), 403, "not-signed-in")
        self.assertEqual(ben.get("/api/v1/plans").status_code, 200)

    def test_ones_own_name_is_changed_and_nothing_else(self) -> None:
        sent = {"full_name": "Ann Holm", "mail": "ann@tidewell.example"}
        self.assertEqual(self.browser.send("PUT", "/account", sent).json()["full_name"], "Ann Holm")
        self.problem(self.browser.send("PUT", "/account", {**sent, "roles": []}), 400, "bad-value")


class Programs(Tidewell):
    def make(self, **change: Any) -> Any:
        """A token of Ann's."""
        return self.browser.send(
            "POST", "/account/tokens", {"name": "nightly", "roles": ["administrator"], **change}
        )

    def with_token(self, secret: str, method: str, path: str, body: Any = None) -> Any:
        """What a program does: no cookie, no token against forged requests."""
        client = Client(enforce_csrf_checks=True)
        return client.generic(
            method, f"/api/v1{path}", "{}" if body is None else body, content_type="application/json",
            headers={"Authorization": f"Bearer {secret}"},
        )  # fmt: skip

    def test_a_program_reads_and_changes_and_stands_in_the_trail(self) -> None:
        secret = self.make().json()["secret"]
        self.assertEqual(self.with_token(secret, "GET", "/plans").status_code, 200)
        reply = self.with_token(secret, "POST", "/groups/fleet/pause", '{"because": "test"}')
        self.assertEqual(reply.status_code, 200, reply.content)
        entry = AuditEntry.objects.first()
        assert entry is not None
        self.assertEqual(entry.by, "ann (token nightly)")
        row = ApiToken.objects.get()
        self.assertIsNotNone(row.used_at)
        self.assertNotIn(secret, row.digest)

    def test_a_token_holds_no_more_than_the_roles_that_were_chosen_and_are_still_given(self) -> None:
        self.problem(self.make(roles=["viewer"]), 400, "bad-value")
        self.problem(self.make(roles=[]), 400, "bad-value")
        make_person("vera", password=PASSWORD, roles=["viewer", "planner"])
        vera = Browser()
        vera.sign_in("vera")
        secret = vera.send("POST", "/account/tokens", {"name": "board", "roles": ["viewer"]}).json()["secret"]
        self.assertEqual(self.with_token(secret, "GET", "/readiness").status_code, 200)
        self.problem(self.with_token(secret, "POST", "/links"), 403, "not-permitted")
        self.browser.send(
            "PUT", "/people/vera", {"full_name": "Vera", "mail": "", "active": True, "roles": ["planner"]}
        )
        self.problem(self.with_token(secret, "GET", "/readiness"), 403, "not-permitted")

    def test_a_token_cannot_make_another_nor_change_the_account(self) -> None:
        make_person("vera", password=PASSWORD, roles=["viewer", "administrator"])
        vera = Browser()
        vera.sign_in("vera")
        secret = vera.send("POST", "/account/tokens", {"name": "board", "roles": ["viewer"]}).json()["secret"]
        more = '{"name": "more", "roles": ["administrator"]}'
        self.problem(self.with_token(secret, "POST", "/account/tokens", more), 403, "not-permitted")
        own = '{"full_name": "Somebody", "mail": ""}'
        self.problem(self.with_token(secret, "PUT", "/account", own), 403, "not-permitted")
        self.assertEqual(ApiToken.objects.count(), 1)

    def test_ended_revoked_and_mangled_ones_let_nobody_in(self) -> None:
        made = self.make(days=1).json()
        later = SystemClock().now() + timedelta(days=1, minutes=1)
        with mock.patch.object(tokens.CLOCK, "now", return_value=later, create=True):
            body = self.problem(self.with_token(made["secret"], "GET", "/plans"), 401, "bad-token")
        self.assertIn("The token nightly ended on", body["detail"])
        for wrong in (made["secret"][:-1] + ("1" if made["secret"][-1] == "0" else "0"), "x", "ä", "a b"):
            self.problem(self.with_token(wrong, "GET", "/plans"), 401, "bad-token")
        left = self.browser.send("DELETE", f"/account/tokens/{made['token']['key']}").json()["tokens"]
        self.assertEqual(left, [])
        self.problem(self.with_token(made["secret"], "GET", "/plans"), 401, "bad-token")

    def test_nobody_revokes_a_token_of_somebody_else(self) -> None:
        key = self.make().json()["token"]["key"]
        ben = Browser()
        ben.sign_in("ben")
        self.problem(ben.send("DELETE", f"/account/tokens/{key}"), 404, "not-found")
        self.assertEqual(ApiToken.objects.count(), 1)
