"""The application under a public address, with TLS, a plain port beside it, and monitors that ask."""

from __future__ import annotations

import json
import ssl
import unittest
from dataclasses import replace
from typing import Any

import httpx
from playwright.sync_api import Browser, expect

from maestoso.real_lab import certificate
from tests.e2e.application import Application, module_browser, until
from tests.ports import free_ports

app: Application
browser: Browser


def setUpModule() -> None:
    """One application for all of them."""
    global app, browser
    browser = module_browser()
    app = Application()
    unittest.addModuleCleanup(app.close)
    file = app.folder / "web.pem"
    certificate.write(file, "a test", "localhost")
    own = app.options
    plain = free_ports(own, sites=0).web_port
    app.options = replace(
        own, public_address=f"https://localhost:{own.web_port}", certificate=str(file), certificate_key=str(file),
        plain_port=plain, log_format="json",
    )  # fmt: skip
    app.start()


class ByTls(unittest.TestCase):
    """What a browser and a program meet."""

    def ask(self, path: str, **headers: str) -> httpx.Response:
        """By TLS, with the certificate checked, without having signed in."""
        verify = ssl.create_default_context(cafile=app.options.certificate)
        return httpx.get(f"{app.address}{path}", headers=headers, verify=verify, trust_env=False, timeout=30)

    def test_somebody_signs_in_and_the_page_stays_up_to_date(self) -> None:
        context = browser.new_context(ignore_https_errors=True)
        self.addCleanup(context.close)
        page = context.new_page()
        page.goto(app.address)
        page.get_by_label("Password").fill(app.password)
        page.get_by_role("button", name="Sign in", exact=True).click()
        expect(page.get_by_role("button", name="Sign out")).to_be_visible()
        cookies: dict[str, Any] = {one["name"]: one for one in context.cookies()}
        self.assertTrue(cookies["maestoso_session"]["secure"] and cookies["maestoso_csrf"]["secure"])
        # A change of somebody else reaches it by its event stream.
        page.goto(f"{app.address}/runs")
        run = app.api().start_test("HARB", 20)
        expect(
            page.get_by_role("link", name=f"Run {run}").or_(page.get_by_text(f"Run {run}")).first
        ).to_be_visible()

    def test_browsers_are_told_to_come_by_tls_only(self) -> None:
        reply = self.ask("/api/v1/session")
        self.assertRegex(reply.headers["Strict-Transport-Security"], r"^max-age=\d{7,}")

    def test_the_plain_port_sends_readers_on_and_takes_nothing_in(self) -> None:
        plain = f"http://127.0.0.1:{app.options.plain_port}"
        with httpx.Client(trust_env=False, timeout=30) as line:
            reply = line.get(f"{plain}/plans/HARB?x=1%0d%0a", headers={"Host": "elsewhere.example"})
            self.assertEqual(
                (reply.status_code, reply.headers["Location"]), (308, f"{app.address}/plans/HARB?x=1%0d%0a")
            )
            self.assertEqual(
                line.get(f"{plain}//elsewhere.example").headers["Location"],
                f"{app.address}//elsewhere.example",
            )
            refused = line.post(f"{plain}/api/v1/session", json={"name": "administrator", "password": "x"})
            self.assertEqual(refused.status_code, 403)
            self.assertNotIn("Location", refused.headers)

    def test_a_name_that_is_not_its_own_is_refused(self) -> None:
        self.assertEqual(self.ask("/", Host="elsewhere.example").status_code, 400)

    def test_monitors_are_told_that_it_is_ready_and_how_it_stands(self) -> None:
        self.assertEqual(self.ask("/healthz").text, "ok\n")
        until(lambda: self.ask("/readyz").status_code == 200, "it to be ready")
        made = app.api().send("POST", "/account/tokens", {"name": "monitor", "roles": ["administrator"]})
        figures = self.ask("/metrics", Authorization=f"Bearer {made['secret']}")
        self.assertEqual(figures.status_code, 200)
        self.assertIn('maestoso_site_up{site="QUA"} 1.0', figures.text)
        self.assertIn("maestoso_keeper_up 1.0", figures.text)

    def test_the_engine_writes_lines_for_programs(self) -> None:
        run = app.api().start_test("REPT", 20)

        def said() -> bool:
            lines = (app.options.var / "log" / "engine.log").read_text().splitlines()
            return any(json.loads(line).get("run") == run for line in lines)

        until(said, "the engine to say that it conducts the run")

    def test_doctor_says_how_it_is_reached(self) -> None:
        said = app.command("doctor").stdout
        self.assertIn(f"people find it at {app.address}", said)
        self.assertIn("with TLS", said)

    def test_settings_that_would_speak_in_clear_are_refused_before_anything_starts(self) -> None:
        done = app.command(
            "demo", MAESTOSO_LISTEN="0.0.0.0", MAESTOSO_CERTIFICATE="", MAESTOSO_CERTIFICATE_KEY=""
        )
        self.assertEqual(done.returncode, 1)
        self.assertIn("listen (MAESTOSO_LISTEN): On 0.0.0.0 passwords would travel in clear.", done.stderr)


if __name__ == "__main__":
    unittest.main()
