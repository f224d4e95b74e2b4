"""Agents that are enrolled, with certificates of their own, and moved without dismantling anything."""

from __future__ import annotations

import json
import tempfile
import threading
from contextlib import redirect_stdout
from datetime import timedelta
from io import StringIO
from pathlib import Path
from typing import Any
from unittest import mock

import httpx
import uvicorn
from django.core.cache import cache

from maestoso.agent_kit.conformance.client import wait_until
from maestoso.agent_kit.folders import Folders
from maestoso.agent_kit.server import application
from maestoso.agent_kit.store import Store
from maestoso.agent_kit.tokens import Tokens
from maestoso.core.errors import Refused
from maestoso.server.common.secret_text import unseal
from maestoso.server.config import settings
from maestoso.server.estate import agents
from maestoso.server.estate.agents import check_address, pulse
from maestoso.server.estate.models import Site
from tests.agent_kit.papers import Papers
from tests.agent_kit.sites import HAS, spec
from tests.ports import free_port
from tests.server.tidewell import Tidewell


class Agents(Tidewell):
    """With an agent of the kit, a folder of files, that speaks TLS."""

    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "site.json").write_text(json.dumps(HAS))
        self.papers = Papers(self.folder)
        self.tokens = Tokens(self.folder / "tokens", self.papers.sign("agent"))

    def serve(self, certificate: str = "agent", **tls: Any) -> str:
        """Serve it; returns its address."""
        app = application(Folders("NEW", self.folder, {}), Store(self.folder / "agent.sqlite"), self.tokens)
        port, file = free_port(), self.folder / f"{certificate}.pem"
        config = uvicorn.Config(
            app, host="127.0.0.1", port=port, log_level="critical", ssl_certfile=file, ssl_keyfile=file,
            timeout_graceful_shutdown=1, **tls,
        )  # fmt: skip
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run)
        thread.start()

        def end() -> None:
            server.should_exit = True
            thread.join()

        self.addCleanup(end)
        wait_until(lambda: server.started)
        return f"https://127.0.0.1:{port}"

    def pem(self, name: str) -> str:
        """A certificate as people paste it."""
        return (self.folder / f"{name}.pem").read_text()

    def register(self, url: str, **agent: str) -> Any:
        """Register the site NEW."""
        body = {"code": "NEW", "name": "New", "kind": "cloud", "time_zone": "UTC", "agent_url": url, **agent}
        return self.browser.send("POST", "/sites", body)

    def said(self, url: str, code: str, status: int = 409, **agent: str) -> str:
        """Why it is refused; nothing is kept of it."""
        told = self.problem(self.register(url, **agent), status, code)
        self.assertFalse(Site.objects.filter(code="NEW").exists())
        return str(told["detail"])

    def test_a_machine_that_the_records_forget_is_a_difference_though_the_agent_says_the_same(self) -> None:
        home = self.folder / "machines" / "loner"
        (home / "disks").mkdir(parents=True)
        machine = {
            "name": "loner",
            "workload": spec("loner", 1),
            "own": True,
            "mark": "",
            "group": "",
            "registered": True,
        }
        (home / "machine.json").write_text(json.dumps({**machine, "powered": True}))
        token = self.tokens.enrol(self.tokens.open_code())
        self.register(self.serve(), token=token, certificate=self.pem("agent"))
        self.assertEqual(self.browser.get("/api/v1/sites/NEW/drift").json()["differences"], [])
        self.assertEqual(self.browser.send("DELETE", "/workloads/loner").status_code, 204)
        with mock.patch("maestoso.server.estate.drift.ask_inventory", side_effect=Refused("It is gone.", "")):
            told = self.browser.get("/api/v1/sites")
        self.assertEqual(told.status_code, 200, "a site that is lost just now takes all others with it")
        (found,) = self.browser.get("/api/v1/sites/NEW/drift").json()["differences"]
        self.assertIn("loner", found["id"])
        self.assertEqual(self.browser.send("POST", "/sites/NEW/drift", {}).json(), {"changed": 1})

    def test_with_a_one_time_code_it_is_trusted_by_its_certificate_and_has_a_token(self) -> None:
        url = self.serve()
        code = self.tokens.open_code()
        made = self.register(url, enrolment=code)
        self.assertEqual(made.status_code, 201, made.content)
        self.assertTrue(made.json()["certificate_until"])
        site = Site.objects.get(code="NEW")
        self.assertEqual((unseal(site.agent_token),), self.tokens.known())
        self.assertEqual(
            site.agent_certificate.strip(), self.pem("agent").split("-----BEGIN PRIVATE")[0].strip()
        )
        self.assertIsNone(pulse(site).lost_because)
        self.assertNotIn(unseal(site.agent_token), self.browser.get("/api/v1/sites").content.decode())

    def test_a_code_that_was_typed_for_another_site_stays_good(self) -> None:
        url, code = self.serve(), self.tokens.open_code()
        wrong = {"code": "OTH", "name": "Other", "kind": "cloud", "agent_url": url, "enrolment": code}
        told = self.problem(self.browser.send("POST", "/sites", wrong), 409, "other-site")
        self.assertIn("This is not the agent of the site OTH", told["detail"])
        self.assertEqual(self.tokens.known(), ())
        self.assertEqual(self.register(url, enrolment=code).status_code, 201)

    def test_a_new_token_is_kept_before_it_is_used_and_the_old_one_is_back_where_it_does_not_work(
        self,
    ) -> None:
        (self.folder / "tokens").write_text("right\n")
        self.register(self.serve(), token="right", certificate=self.pem("authority"))
        site = Site.objects.get(code="NEW")
        seen: list[str] = []

        def used(one: Site) -> None:
            seen.append(unseal(Site.objects.get(pk=one.pk).agent_token))
            raise Refused("It does not answer.", code="site-unreachable")

        with mock.patch("maestoso.server.estate.trust._introduced", side_effect=used):
            self.problem(self.browser.send("POST", "/sites/NEW/agent/token", None), 409, "site-unreachable")
        self.assertEqual(seen, [self.tokens.known()[-1]])
        site.refresh_from_db()
        self.assertEqual(unseal(site.agent_token), "right")
        self.assertEqual(self.browser.send("POST", "/sites/NEW/agent/token", None).status_code, 200)

    def test_a_code_of_another_agent_and_a_wrong_code_are_told_apart(self) -> None:
        url = self.serve()
        self.papers.sign("another")
        self.tokens.open_code()
        elsewhere = Tokens(self.folder / "other", self.folder / "another.pem").open_code()
        self.assertIn(
            "not the one that the code was given out with",
            self.said(url, "agent-certificate", enrolment=elsewhere),
        )
        wrong = Tokens(self.folder / "other", self.folder / "agent.pem").open_code()
        self.assertIn("not the one-time code that was printed", self.said(url, "wrong-code", enrolment=wrong))
        self.assertIn("no one-time code", self.said(url, "bad-value", 400, enrolment="hello"))

    def test_certificate_name_token_and_version_have_each_a_sentence_of_their_own(self) -> None:
        url = self.serve()
        (self.folder / "tokens").write_text("right\n")
        cases = [
            ({"token": "right"}, "agent-not-trusted", "not signed by anybody who is trusted"),
            (
                {"token": "wrong", "certificate": self.pem("authority")},
                "agent-not-trusted",
                "does not know this token",
            ),
        ]
        for agent, code, sentence in cases:
            self.assertIn(sentence, self.said(url, code, **agent))
        for name, rest, sentence in (
            ("late", {"good_for": timedelta(hours=-1)}, "has expired"),
            ("elsewhere", {"address": "192.0.2.1"}, "for another address than this one"),
        ):
            self.papers.sign(name, **rest)
            self.assertIn(sentence, self.said(
                self.serve(name), "agent-not-trusted", token="right", certificate=self.pem("authority")
            ))  # fmt: skip
        self.assertIn("no certificate", self.said(url, "bad-value", 400, token="right", certificate="a text"))
        for told, code, sentence in (
            ({"protocol": "2.0", "site": "NEW"}, "agent-version", "speaks protocol '2.0'"),
            ({"protocol": "1.9", "site": "OLD"}, "agent-other-site", "is of site 'OLD', not of NEW"),
        ):
            with mock.patch.object(agents.HttpSite, "capabilities", mock.AsyncMock(return_value=told)):
                self.assertIn(
                    sentence, self.said(url, code, token="right", certificate=self.pem("authority"))
                )

    def test_where_agents_want_to_see_a_certificate_one_is_shown_or_it_is_said(self) -> None:
        import ssl

        (self.folder / "tokens").write_text("right\n")
        authority = str(self.folder / "authority.pem")
        url = self.serve(ssl_ca_certs=authority, ssl_cert_reqs=ssl.CERT_REQUIRED)
        agent = {"token": "right", "certificate": self.pem("authority")}
        self.assertIn("MAESTOSO_AGENT_CERTIFICATE", self.said(url, "agent-not-trusted", **agent))
        for how in (httpx.ReadError, httpx.WriteError, httpx.RemoteProtocolError):
            with self.subTest(how), mock.patch.object(httpx.AsyncClient, "request", side_effect=how("")):
                self.assertIn("MAESTOSO_AGENT_CERTIFICATE", self.said(url, "agent-not-trusted", **agent))
                self.assertIn("No site agent", self.said(self.serve(), "site-unreachable", **agent))
        own = self.papers.sign("maestoso")
        with mock.patch.object(agents, "OPTIONS", mock.Mock(wraps=settings.OPTIONS, agent_certificate=str(own),
                                                            agent_hosts="127.0.0.1")):  # fmt: skip
            self.assertEqual(self.register(url, **agent).status_code, 201)

    def test_token_and_address_are_replaced_while_everything_else_stays(self) -> None:
        (self.folder / "tokens").write_text("right\n")
        url = self.serve()
        self.register(url, token="right", certificate=self.pem("authority"))
        site = Site.objects.get(code="NEW")
        self.assertEqual(self.browser.send("POST", "/sites/NEW/agent/token", None).status_code, 200)
        site.refresh_from_db()
        self.assertEqual((unseal(site.agent_token),), self.tokens.known())
        self.assertNotEqual(self.tokens.known(), ("right",))
        self.problem(self.browser.send("POST", "/sites/HIL/agent/token", None), 409, "no-new-token")
        moved = self.serve()
        self.assertNotEqual(moved, url)
        body = {"agent_url": moved, "certificate": self.pem("authority")}
        told = self.browser.send("PUT", "/sites/NEW/agent", body).json()
        self.assertEqual((told["agent_url"], told["lost_because"]), (moved, None))
        for elsewhere in (moved.replace("127.0.0.1", "localhost"), moved.replace("https", "http")):
            away = {"agent_url": elsewhere, "certificate": ""}
            told = self.problem(self.browser.send("PUT", "/sites/NEW/agent", away), 400, "bad-value")
            self.assertIn("is not sent to", told["detail"], "whoever listens there would have the token")
        lost = self.problem(
            self.browser.send("PUT", "/sites/NEW/agent", {**body, "agent_url": "https://127.0.0.1:9"}), 409,
            "site-unreachable",
        )  # fmt: skip
        self.assertIn("answers at https://127.0.0.1:9", lost["detail"])
        site.refresh_from_db()
        self.assertEqual(site.agent_url, moved)

    def test_hosts_are_allowed_by_name_and_by_network(self) -> None:
        def allowed(url: str, hosts: str) -> bool:
            with mock.patch.object(agents, "OPTIONS", mock.Mock(agent_hosts=hosts)):
                try:
                    check_address(url)
                except Exception as error:
                    self.assertIn("MAESTOSO_AGENT_HOSTS", str(error.remedy))  # type: ignore[attr-defined]
                    return False
            return True

        networks = "agents.example, 10.20.0.0/16, 10.21/16, 2001:db8::/32"
        for url, right in (
            ("https://10.20.3.4:8700", True), ("https://10.21.3.4", False), ("https://[2001:db8::5]:1", True),
            ("https://[2001:db9::5]", False), ("https://agents.example", True), ("https://no.example", False),
            ("https://169.254.169.254", False),
        ):  # fmt: skip
            with self.subTest(url):
                self.assertEqual(allowed(url, networks), right)
        for found, right in ((["10.20.0.1"], True), (["10.20.0.1", "127.0.0.1"], False), ([], False)):
            answers = [(0, 0, 0, "", (address, 0)) for address in found]
            error = OSError() if not found else None
            with mock.patch.object(agents.socket, "getaddrinfo", return_value=answers, side_effect=error):
                self.assertEqual(allowed("https://host.example", networks), right)

    def tearDown(self) -> None:
        cache.clear()
        super().tearDown()


class Printed(Tidewell):
    """What ``serve`` prints."""

    def test_it_prints_a_code_while_nobody_was_enrolled(self) -> None:
        from maestoso.agent_kit import server

        with tempfile.TemporaryDirectory() as folder, mock.patch.object(server.uvicorn, "run") as run:
            out, place = StringIO(), Path(folder)
            platform = Folders("NEW", place, {})
            with redirect_stdout(out):
                server.serve(platform, state=place / "a.sqlite", port=1, token_file=place / "tokens")
            self.assertRegex(
                out.getvalue(), r"One-time code, good for an hour: [A-Z2-7]{4}(-[A-Z2-7]{4}){3}\n"
            )
            self.assertEqual(run.call_count, 1)
