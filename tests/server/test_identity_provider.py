"""Signing in through a provider of identities, and the days on which it lies, is down, or has changed."""

from __future__ import annotations

import io
from typing import Any
from unittest import mock

from django.core.cache import cache
from django.core.management import call_command
from joserfc.jwk import RSAKey

from maestoso.server.access.models import OutsideIdentity, RoleGrant
from maestoso.server.audit.models import AuditEntry
from tests.identity_provider import Provider
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell

NILA = {"preferred_username": "nila", "name": "Nila Orme", "email": "nila@tidewell.example",
        "email_verified": True, "groups": ["recovery", "everybody"]}  # fmt: skip
SETTING = {
    "name": "House sign-in", "client_id": "maestoso", "client_secret": "between-us",
    "roles": {"recovery": ["operator", "conductor"], "planning": ["planner"]}, "makes_accounts": True,
}  # fmt: skip


class Outside(Tidewell):
    def setUp(self) -> None:
        super().setUp()
        self.provider = Provider({"s-1": NILA, "s-2": {**NILA, "preferred_username": "ann"}})
        self.addCleanup(self.provider.close)
        self.set_up()

    def set_up(self, **change: Any) -> None:
        reply = self.browser.send(
            "PUT", "/identity-provider", {**SETTING, "issuer": self.provider.issuer, **change}
        )
        self.assertEqual(reply.status_code, 200, reply.content)

    def elsewhere(self) -> Browser:
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        return browser

    def come(self, sub: str = "s-1", browser: Browser | None = None) -> tuple[Browser, Any]:
        """Sign in through the provider; the browser and the answer."""
        cache.clear()
        browser = browser or self.elsewhere()
        begun = browser.send("POST", "/session/provider/address")
        self.assertEqual(begun.status_code, 200, begun.content)
        sent = self.provider.sign_in(begun.json()["address"], sub)
        reply = browser.send("POST", "/session/provider", sent)
        if reply.status_code == 200:
            browser.token = reply.json()["csrf"]
        return browser, reply

    def person(self, name: str) -> dict[str, Any]:
        return {one["name"]: one for one in self.browser.get("/api/v1/people").json()["people"]}[name]

    def test_whoever_the_provider_knows_comes_in_with_the_roles_of_their_groups(self) -> None:
        self.assertEqual(self.elsewhere().get("/api/v1/session").json()["provider"], "House sign-in")
        browser, reply = self.come()
        self.assertEqual(reply.status_code, 200, reply.content)
        session = reply.json()
        self.assertEqual((session["name"], session["roles"]), ("nila", ["conductor", "operator"]))
        self.assertEqual(browser.get("/api/v1/plans").status_code, 200)
        self.assertEqual(self.provider.verified, [True])
        nila = self.person("nila")
        self.assertEqual((nila["state"], nila["mail"]), ("active", "nila@tidewell.example"))
        self.assertEqual(nila["groups"], {"conductor": "recovery", "operator": "recovery"})
        newest = AuditEntry.objects.first()
        assert newest is not None
        self.assertEqual((newest.by, newest.did), ("nila", "Signed in through the identity provider"))
        self.assertEqual(newest.sent["authorization_code"], "(not shown)")

    def test_roles_follow_the_groups_and_what_was_given_by_hand_stays(self) -> None:
        self.come()
        by_hand = {"full_name": "Nila Orme", "mail": "", "active": True, "through_provider": True}
        roles = ["conductor", "operator", "auditor"]
        reply = self.browser.send("PUT", "/people/nila", {**by_hand, "roles": roles})
        self.assertEqual(reply.status_code, 200, reply.content)
        said = self.problem(
            self.browser.send("PUT", "/people/nila", {**by_hand, "roles": ["auditor"]}), 409, "refused"
        )
        self.assertIn("by the group recovery of House sign-in", said["detail"])
        self.provider.claims_of("s-1", **{**NILA, "groups": ["planning"]})
        _, reply = self.come()
        self.assertEqual(reply.json()["roles"], ["auditor", "planner"])

    def test_a_group_can_give_its_roles_for_some_plans_only(self) -> None:
        self.set_up(scopes={"recovery": {"plans": ["REPT"]}})
        browser, _ = self.come()
        self.assertEqual([one["code"] for one in browser.get("/api/v1/plans").json()["plans"]], ["REPT"])
        nila = self.person("nila")
        self.assertEqual(nila["scopes"]["operator"]["plans"], ["REPT"])
        self.assertRegex(nila["sources"]["operator"], "^by the group recovery of House sign-in, on 20")
        self.set_up()
        browser, _ = self.come()
        self.assertEqual(len(browser.get("/api/v1/plans").json()["plans"]), 5)
        sent = {**SETTING, "issuer": self.provider.issuer, "scopes": {"recovery": {"plans": ["NONE"]}}}
        said = self.problem(self.browser.send("PUT", "/identity-provider", sent), 400, "bad-value")
        self.assertEqual(said["field"], "scopes")

    def test_an_account_of_here_is_nobody_elses_by_its_name(self) -> None:
        _, reply = self.come("s-2")
        said = self.problem(reply, 403, "not-let-in")
        self.assertIn("There is an account ann", said["detail"])
        newest = AuditEntry.objects.first()
        assert newest is not None
        self.assertIn("(refused: not-let-in)", newest.did)

    def test_an_account_that_is_let_sign_in_there_is_bound_by_the_first_who_comes(self) -> None:
        make_person("ola", PASSWORD, ["viewer"])
        before = Browser()
        self.assertEqual(before.sign_in("ola").status_code, 200)
        there = {
            "full_name": "Ola",
            "mail": "",
            "active": True,
            "roles": ["viewer"],
            "through_provider": True,
        }
        self.assertEqual(self.browser.send("PUT", "/people/ola", there).status_code, 200)
        self.assertEqual(self.person("ola")["state"], "invited")
        self.assertEqual(before.get("/api/v1/plans").status_code, 403)
        self.problem(Browser().sign_in("ola"), 403, "wrong-sign-in")
        self.problem(self.browser.send("POST", "/people/ola/invitation"), 409, "refused")
        self.provider.claims_of("s-7", preferred_username="ola", groups=[])
        self.assertEqual(self.come("s-7")[1].json()["roles"], ["viewer"])
        # Another who is called the same now is somebody else.
        self.provider.claims_of("s-8", preferred_username="ola")
        self.problem(self.come("s-8")[1], 403, "not-let-in")
        self.assertEqual(self.browser.send("PUT", "/people/ola", {**there, "active": False}).status_code, 200)
        self.assertIn("disabled", self.problem(self.come("s-7")[1], 403, "not-let-in")["detail"])

    def test_nobody_is_made_where_that_is_not_wanted(self) -> None:
        self.set_up(makes_accounts=False, client_secret="")
        self.assertIn("knows you as nila", self.problem(self.come()[1], 403, "not-let-in")["detail"])
        invited = {"name": "nila", "full_name": "Nila Orme", "roles": ["viewer"], "through_provider": True}
        reply = self.browser.send("POST", "/people", invited)
        self.assertEqual((reply.status_code, reply.json()["link"]), (201, ""))
        self.assertEqual(self.come()[1].json()["roles"], ["conductor", "operator", "viewer"])

    def test_a_session_from_before_is_not_the_one_afterwards(self) -> None:
        browser = self.elsewhere()
        begun = browser.send("POST", "/session/provider/address").json()["address"]
        before = browser.cookies["maestoso_session"].value
        reply = browser.send("POST", "/session/provider", self.provider.sign_in(begun, "s-1"))
        self.assertEqual(reply.status_code, 200)
        self.assertNotEqual(browser.cookies["maestoso_session"].value, before)

    def test_an_answer_that_was_used_or_belongs_to_another_browser_is_none(self) -> None:
        browser = self.elsewhere()
        begun = browser.send("POST", "/session/provider/address").json()["address"]
        sent = self.provider.sign_in(begun, "s-1")
        self.problem(self.elsewhere().send("POST", "/session/provider", sent), 403, "not-let-in")
        self.assertEqual(browser.send("POST", "/session/provider", sent).status_code, 200)
        again = self.elsewhere()
        again.cookies = browser.cookies
        again.token = browser.get("/api/v1/session").json()["csrf"]
        self.problem(again.send("POST", "/session/provider", sent), 403, "not-let-in")

    def test_tokens_that_cannot_be_trusted(self) -> None:
        genuine = self.provider.key
        other = RSAKey.generate_key(2048, {"kid": "other", "use": "sig"})
        twin = RSAKey.generate_key(2048, {"kid": "one", "use": "sig"})
        lies: dict[str, dict[str, Any]] = {
            "of another issuer": {"iss": "https://elsewhere.example"},
            "for another program": {"aud": "somebody-else"},
            "that has ended": {"exp": 1_700_000_000},
            "of the day after tomorrow": {"iat": 4_000_000_000, "exp": 4_000_003_600},
            "to another question": {"nonce": "another"},
        }
        for what, change in lies.items():
            with self.subTest(what):
                self.provider.change = lambda claims, change=change: {**claims, **change}
                self.problem(self.come()[1], 502, "provider-failed")
        self.provider.change = dict
        for what, key in (("of a key that is not published", other), ("of another key of that name", twin)):
            with self.subTest(what):
                self.provider.key = key
                self.problem(self.come()[1], 502, "provider-failed")
        with self.subTest("of a key that was withdrawn since"):
            self.provider.key = genuine
            self.assertEqual(self.come()[1].status_code, 200)
            self.provider.published = [other]
            self.problem(self.come()[1], 502, "provider-failed")
        self.provider.published = [genuine]
        self.assertEqual(self.come()[1].status_code, 200)
        self.assertEqual(OutsideIdentity.objects.count(), 1)

    def test_a_provider_that_is_down_is_said_and_administrators_see_it_first(self) -> None:
        found = self.browser.send("POST", "/identity-provider/try").json()
        self.assertEqual((found["issuer"], found["keys"]), (self.provider.issuer, 1))
        self.provider.close()
        reply = self.elsewhere().send("POST", "/session/provider/address")
        self.assertIn("does not answer", self.problem(reply, 502, "provider-failed")["detail"])
        self.problem(self.browser.send("POST", "/identity-provider/try"), 502, "provider-failed")
        self.provider = Provider({})

    def test_a_role_that_wants_a_second_factor_takes_the_providers_where_it_is_known_to_ask(self) -> None:
        reply = self.browser.send("PUT", "/roles/conductor", {"second_factor": True})
        self.assertEqual(reply.status_code, 200)
        browser, reply = self.come()
        self.assertIn("House sign-in is not known to ask for one", reply.json()["restricted"])
        self.problem(browser.get("/api/v1/plans"), 403, "needs-second-factor")
        self.problem(browser.send("POST", "/account/second-factor"), 409, "refused")
        self.set_up(second_factor=True)
        self.assertEqual(browser.get("/api/v1/plans").status_code, 200)

    def test_the_last_administrator_keeps_a_password(self) -> None:
        me = {
            "full_name": "Ann",
            "mail": "",
            "active": True,
            "roles": ["administrator"],
            "through_provider": True,
        }
        self.assertEqual(self.browser.send("PUT", "/people/ben", me).status_code, 200)
        self.problem(self.browser.send("PUT", "/people/ann", me), 409, "last-administrator")

    def test_who_is_locked_out_with_the_provider_gets_in_on_the_machine(self) -> None:
        self.come()
        with self.subTest("no password was ever here"):
            self.problem(Browser().sign_in("nila", PASSWORD), 403, "wrong-sign-in")
        stdin = io.StringIO(f"{PASSWORD}\n")
        with mock.patch("sys.stdin", stdin):
            call_command("make_administrator", "nila")
        self.assertEqual(Browser().sign_in("nila", PASSWORD).status_code, 200)

    def test_a_setting_that_cannot_be_is_refused_by_its_field(self) -> None:
        for field, value in (
            ("issuer", "http://sign-in.tidewell.example"), ("issuer", "nowhere"), ("name", ""),
            ("client_id", " "), ("roles", {"recovery": ["captain"]}), ("roles", {"recovery": []}), ("roles", {" ": ["viewer"]}),
        ):  # fmt: skip
            with self.subTest(field=field, value=value):
                sent = {**SETTING, "issuer": self.provider.issuer, field: value}
                said = self.problem(self.browser.send("PUT", "/identity-provider", sent), 400, "bad-value")
                self.assertEqual(said["field"], field)
        shown = self.browser.get("/api/v1/identity-provider").json()["provider"]
        self.assertNotIn("client_secret", shown)
        self.assertEqual(shown["comes_back_to"], "/sign-in/provider")

    def test_a_provider_that_accounts_need_stays(self) -> None:
        self.come()
        self.problem(self.browser.send("DELETE", "/identity-provider"), 409, "refused")
        back = {"full_name": "Nila", "mail": "", "active": True, "roles": ["conductor", "operator"]}
        self.assertEqual(self.browser.send("PUT", "/people/nila", back).status_code, 200)
        self.assertEqual(self.browser.send("DELETE", "/identity-provider").status_code, 204)
        self.assertEqual(RoleGrant.objects.filter(user__username="nila").count(), 2)
        self.problem(self.elsewhere().send("POST", "/session/provider/address"), 404, "not-found")
