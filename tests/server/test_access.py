"""Who may come in, and what nobody may do without signing in."""

from __future__ import annotations

import io
import json
from pathlib import Path
from unittest import mock

from django.core.cache import cache
from django.core.management import call_command
from django.core.management.base import CommandError
from django.test import TestCase, override_settings

from maestoso.server.access import tries
from maestoso.server.common.headers import POLICY
from tests.server.tidewell import Browser, Tidewell

CONTRACT = json.loads(
    (Path(__file__).resolve().parents[2] / "docs" / "openapi.json").read_text(encoding="utf-8")
)


ANYBODYS = (
    "/api/v1/session", "/api/v1/session/passkey", "/api/v1/session/passkey/options", "/api/v1/session/provider",
    "/api/v1/session/provider/address", "/api/v1/invitations", "/api/v1/invitations/forgotten",
)  # fmt: skip


class SigningIn(Tidewell):
    """Sessions, forged requests, and too many tries."""

    def test_the_session_says_who_is_signed_in(self) -> None:
        self.assertEqual(self.browser.get("/api/v1/session").json()["name"], "ann")
        self.assertEqual(self.browser.send("DELETE", "/session").status_code, 204)
        self.assertEqual(self.browser.get("/api/v1/session").json()["name"], "")

    def test_a_wrong_password_says_so_and_no_more(self) -> None:
        for name, password in (("ann", "wrong"), ("nobody", "wrong")):
            body = self.problem(Browser().sign_in(name, password), 403, "wrong-sign-in")
            self.assertEqual(body["detail"], "Name and password do not belong together.")

    def test_too_many_tries_are_told_to_wait(self) -> None:
        stranger = Browser()
        with mock.patch.object(tries, "LONGEST_PAUSE_S", 0.05):  # how long they are is tested with the doors
            replies = [stranger.sign_in("ann", "wrong") for _ in range(12)]
        body = self.problem(replies[-1], 429, "too-many-tries")
        self.assertIn("Wait", body["detail"])
        self.assertIn("Retry-After", replies[-1].headers)

    def test_an_address_with_a_line_feed_is_none_and_said_as_every_other(self) -> None:
        self.problem(self.browser.send("PUT", "/groups/fleet/points/%0Ax", {"label": ""}), 404, "not-found")

    def test_a_change_without_the_token_is_refused(self) -> None:
        self.browser.token = ""
        reply = self.browser.send("POST", "/runs", {"plan": "HARB"})
        self.assertEqual(reply.status_code, 403)

    def test_cookies_and_headers_are_set_for_safety(self) -> None:
        session = self.browser.cookies["maestoso_session"]
        self.assertTrue(session["httponly"])
        self.assertEqual(session["samesite"], "Lax")
        reply = self.browser.get("/api/v1/session")
        self.assertEqual(reply.headers["Content-Security-Policy"], POLICY)
        self.assertNotIn("unsafe-inline", POLICY.split("style-src")[0])
        self.assertEqual(reply.headers["X-Frame-Options"], "DENY")


class NobodyWithoutSignIn(Tidewell):
    """Every address of the contract but those that let somebody in asks who it is."""

    def test_every_operation_is_refused_to_strangers(self) -> None:
        stranger = Browser()
        stranger.token = stranger.get("/api/v1/session").json()["csrf"]
        asked = 0
        for path, operations in CONTRACT["paths"].items():
            # Streams are answered before this application; test_streams asks them.
            if path in ANYBODYS or path.endswith("/stream"):
                continue
            address = (
                path.removeprefix("/api/v1")
                .replace("{code}", "BOOK")
                .replace("{id}", "1")
                .replace("{number}", "1")
                .replace("{name}", "some-name")
            )
            for method in operations:
                with self.subTest(f"{method} {path}"):
                    body = self.problem(stranger.send(method.upper(), address), 403, "not-signed-in")
                    self.assertIn("not signed in", body["detail"])
                    asked += 1
        self.assertGreaterEqual(asked, 12)


class TheFirstAdministrator(TestCase):
    """Made with a password that is worth something."""

    def setUp(self) -> None:
        cache.clear()

    def make(self, password: str) -> None:
        with mock.patch("sys.stdin", io.StringIO(password + "\n")):
            call_command("make_administrator", "root")

    def test_a_weak_password_is_refused_in_words(self) -> None:
        with self.assertRaises(CommandError) as caught:
            self.make("short")
        self.assertIn("12 characters", str(caught.exception))

    def test_an_empty_installation_is_called_after_nobody(self) -> None:
        self.assertEqual(Browser().get("/api/v1/session").json()["organisation"], "")

    def test_a_good_one_is_hashed_and_works(self) -> None:
        self.make("a-longer-passphrase")
        browser = Browser()
        self.assertEqual(browser.sign_in("root", "a-longer-passphrase").status_code, 200)


class Addresses(Tidewell):
    """What is at no address, and what comes when nothing is built."""

    def test_an_unknown_address_of_the_api_is_a_problem(self) -> None:
        self.problem(self.browser.get("/api/v1/nonsense"), 404, "not-found")

    def test_a_page_without_a_built_front_end_says_what_to_do(self) -> None:
        with override_settings(WEB_DIST=Path("/nonexistent")):
            reply = self.browser.get("/plans/BOOK")
        self.assertEqual(reply.status_code, 503)
        self.assertIn("./maestoso demo", reply.content.decode())
