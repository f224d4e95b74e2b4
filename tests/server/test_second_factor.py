"""A second factor at sign-in: set up, wanted, used once, recovered, required of roles."""

from __future__ import annotations

import base64
import io
from datetime import datetime, timedelta
from typing import Any
from unittest import mock

from django.core.management import call_command
from django_otp.oath import TOTP

from maestoso.engine.clock import SystemClock
from maestoso.server.access import account_views, views
from maestoso.server.access.models import RecoveryCode, SecondFactor
from maestoso.server.audit.models import AuditEntry
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell


def code_at(secret: str, at: datetime) -> str:
    """What the app shows at a moment."""
    totp = TOTP(base64.b32decode(secret))
    totp.time = at.timestamp()
    return f"{totp.token():06}"


class Factor(Tidewell):
    def setUp(self) -> None:
        super().setUp()
        self.now = SystemClock().now()

    def at(self, later_s: float = 0.0) -> Any:
        """The server's clock stands at a moment."""
        moment = self.now + timedelta(seconds=later_s)
        clock = mock.Mock(now=mock.Mock(return_value=moment))
        return mock.patch.multiple(views, CLOCK=clock), mock.patch.multiple(account_views, CLOCK=clock)

    def set_up(self, browser: Browser | None = None) -> tuple[str, list[str]]:
        """The secret and the recovery codes."""
        browser = browser or self.browser
        begun = browser.send("POST", "/account/second-factor").json()
        self.assertIn(begun["secret"], begun["uri"])
        self.assertTrue(begun["picture"].startswith("data:image/svg+xml"))
        for patched in self.at():
            patched.start()
            self.addCleanup(patched.stop)
        sent = {"one_time_code": code_at(begun["secret"], self.now)}
        reply = browser.send("PUT", "/account/second-factor", sent)
        self.assertEqual(reply.status_code, 200, reply.content)
        return begun["secret"], reply.json()["recovery_codes"]

    def sign_in(self, code: str = "", later_s: float = 0.0) -> Any:
        """Sign in as Ann from elsewhere."""
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        one, two = self.at(later_s)
        with one, two:
            return browser.send(
                "POST", "/session", {"name": "ann", "password": PASSWORD, "one_time_code": code}
            )

    def test_once_it_is_set_up_the_password_alone_lets_nobody_in(self) -> None:
        secret, codes = self.set_up()
        self.assertEqual(len(set(codes)), 10)
        self.problem(self.sign_in(), 403, "needs-code")
        self.problem(self.sign_in("000000", 60), 403, "wrong-code")
        self.assertEqual(self.sign_in(code_at(secret, self.now + timedelta(seconds=60)), 60).status_code, 200)

    def test_a_code_is_taken_once_and_not_long_after_its_time(self) -> None:
        secret, _ = self.set_up()
        self.problem(self.sign_in(code_at(secret, self.now)), 403, "wrong-code")  # that of the set-up
        fresh = code_at(secret, self.now + timedelta(seconds=90))
        self.assertEqual(self.sign_in(fresh, 90).status_code, 200)
        self.problem(self.sign_in(fresh, 90), 403, "wrong-code")
        self.problem(self.sign_in(code_at(secret, self.now + timedelta(seconds=150)), 400), 403, "wrong-code")
        # A device whose clock is half a minute off is no trouble.
        self.assertEqual(
            self.sign_in(code_at(secret, self.now + timedelta(seconds=530)), 500).status_code, 200
        )

    def test_a_recovery_code_stands_for_one_of_the_app_once(self) -> None:
        _, codes = self.set_up()
        self.assertEqual(self.sign_in(codes[3].upper(), 60).status_code, 200)
        self.problem(self.sign_in(codes[3], 60), 403, "wrong-code")
        self.assertEqual(self.browser.get("/api/v1/account").json()["recovery_codes"], 9)

    def test_a_wrong_password_is_said_before_any_code(self) -> None:
        self.set_up()
        self.problem(Browser().sign_in("ann", "wrong"), 403, "wrong-sign-in")

    def test_what_was_begun_and_not_confirmed_is_not_wanted(self) -> None:
        self.browser.send("POST", "/account/second-factor")
        self.assertEqual(self.sign_in().status_code, 200)
        for wrong in ("1", "abcdef", "１２３４５６", "-12345", "1234567", ""):
            reply = self.browser.send("PUT", "/account/second-factor", {"one_time_code": wrong})
            self.problem(reply, 403, "wrong-code")

    def test_neither_the_secret_nor_codes_are_kept_in_clear_or_in_the_trail(self) -> None:
        secret, codes = self.set_up()
        row = SecondFactor.objects.get()
        self.assertNotIn(secret, row.secret)
        self.assertFalse(RecoveryCode.objects.filter(digest__in=codes).exists())
        self.sign_in(codes[0], 60)
        told = str(list(AuditEntry.objects.values_list("sent", "changed")))
        for hidden in (secret, codes[0], row.secret):
            self.assertNotIn(hidden, told)

    def test_removing_it_wants_the_password(self) -> None:
        self.set_up()
        self.problem(
            self.browser.send("POST", "/account/second-factor/removal", {"password": "wrong"}),
            403,
            "wrong-sign-in",
        )
        reply = self.browser.send("POST", "/account/second-factor/removal", {"password": PASSWORD})
        self.assertFalse(reply.json()["second_factor"])
        self.assertEqual(self.sign_in().status_code, 200)

    def test_who_lost_the_device_is_helped_by_an_administrator(self) -> None:
        ben = Browser()
        ben.sign_in("ben")
        self.set_up(ben)
        person = self.browser.send("DELETE", "/people/ben/second-factor").json()
        self.assertFalse(person["second_factor"])
        self.assertEqual(Browser().sign_in("ben").status_code, 200)

    def test_a_link_for_a_new_password_does_not_stand_for_the_code(self) -> None:
        ben = Browser()
        ben.sign_in("ben")
        self.set_up(ben)
        _, _, name, secret = self.browser.send("POST", "/people/ben/invitation").json()["link"].split("/")
        other = Browser()
        other.token = other.get("/api/v1/session").json()["csrf"]
        sent = {"name": name, "secret": secret, "password": "another passphrase of his"}
        self.assertEqual(other.send("POST", "/invitations", sent).json()["name"], "")
        self.problem(other.get("/api/v1/plans"), 403, "not-signed-in")

    def test_on_the_machine_itself_who_lost_the_device_gets_in(self) -> None:
        self.set_up()
        with mock.patch("sys.stdin", io.StringIO("another passphrase of hers\n")):
            call_command("make_administrator", "ann")
        self.assertEqual(Browser().sign_in("ann", "another passphrase of hers").status_code, 200)

    def test_a_role_may_want_it_before_anything_else(self) -> None:
        make_person("carl", password=PASSWORD, roles=["conductor"])
        reply = self.browser.send("PUT", "/roles/conductor", {"second_factor": True})
        self.assertTrue(reply.json()["second_factor"])
        carl = Browser()
        session = carl.sign_in("carl").json()
        self.assertEqual(
            session["restricted"],
            "As conductor you must sign in with a code as well, or with a passkey, and have set up neither.",
        )
        self.problem(carl.get("/api/v1/plans"), 403, "needs-second-factor")
        self.assertEqual(carl.get("/api/v1/account").status_code, 200)
        self.set_up(carl)
        self.assertEqual(carl.get("/api/v1/plans").status_code, 200)
        self.assertEqual(self.browser.get("/api/v1/plans").status_code, 200)
        self.problem(self.browser.send("PUT", "/roles/emperor", {"second_factor": True}), 404, "not-found")
