"""The demo data, loaded from real practice sites, for tests of the server."""

from __future__ import annotations

import asyncio
import json
import re
import socket
import tempfile
import threading
import time
import unittest
import zlib
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import uvicorn
from django.contrib.auth.models import User
from django.core.cache import cache
from django.test import Client, TestCase, override_settings

from maestoso.engine.clock import SystemClock
from maestoso.practice.scenario import Scenario
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.store import Store
from maestoso.server.evidence import keys
from maestoso.server.runs import demo

SCENARIO = Scenario(Path(__file__).resolve().parents[2] / "demo" / "tidewell")
TOKEN = "token-for-tests"
PASSWORD = "correct-horse-battery"


def assert_tagged(case: unittest.TestCase, pdf: bytes) -> None:
    """A PDF says of every part what it is, so that it can be read aloud."""
    case.assertTrue(pdf.startswith(b"%PDF-"))
    packed = re.findall(rb"stream\r?\n(.*?)\r?\nendstream", pdf, re.S)
    case.assertTrue(any(b"/StructTreeRoot" in zlib.decompress(one) for one in packed if one[:1] == b"x"))


class PracticeSites:
    """All sites of the scenario on loopback ports of their own, in one thread."""

    def __init__(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.servers: dict[str, uvicorn.Server] = {}
        self.urls: dict[str, str] = {}
        self._sockets = {code: self._socket() for code in SCENARIO.site_codes()}
        for code, sock in self._sockets.items():
            self.urls[code] = f"http://127.0.0.1:{sock.getsockname()[1]}"
        self.thread = threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True)
        self.thread.start()
        until = time.monotonic() + 20
        while len(self.servers) < 3 or not all(s.started for s in self.servers.values()):
            if time.monotonic() > until:
                raise AssertionError("the practice sites did not come up")
            threading.Event().wait(0.02)

    def _socket(self) -> socket.socket:
        sock = socket.socket()
        sock.bind(("127.0.0.1", 0))
        return sock

    async def _serve(self) -> None:
        clock = SystemClock()
        runs = []
        for code, sock in self._sockets.items():
            store = Store(Path(self.folder.name) / f"{code}.sqlite", clock.now() - timedelta(hours=1))
            world = store.replay(SCENARIO.spec(code, store.created_at))
            app = application(PracticeSite(world, store, clock, TOKEN))
            self.servers[code] = uvicorn.Server(uvicorn.Config(app, log_level="error", access_log=False))
            runs.append(self.servers[code].serve(sockets=[sock]))
        await asyncio.gather(*runs)

    def close(self) -> None:
        """End them."""
        for server in self.servers.values():
            server.should_exit = True
        self.thread.join(10)
        self.folder.cleanup()


def own_keys(case: unittest.TestCase) -> None:
    """Sealing keys, and the mark of the register of runs beside them, that belong to this test alone."""
    folder = tempfile.TemporaryDirectory()
    case.addCleanup(folder.cleanup)
    patched = mock.patch.object(keys, "FOLDER", Path(folder.name) / "keys")
    patched.start()
    case.addCleanup(patched.stop)


class Browser(Client):
    """A client that speaks JSON and sends the token against forged requests, like the front end."""

    def __init__(self) -> None:
        super().__init__(enforce_csrf_checks=True)
        self.token = ""

    def sign_in(self, name: str = "ann", password: str = PASSWORD) -> Any:
        """Sign in as the front end does."""
        self.token = self.get("/api/v1/session").json()["csrf"]
        reply = self.send("POST", "/session", {"name": name, "password": password})
        if reply.status_code == 200:
            self.token = reply.json()["csrf"]
        return reply

    def send(self, method: str, path: str, body: Any = None, **headers: str) -> Any:
        """A request with a JSON body; a string body goes as it is."""
        data = body if isinstance(body, str) else json.dumps({} if body is None else body)
        return self.generic(
            method,
            f"/api/v1{path}",
            data,
            content_type="application/json",
            headers={"X-CSRFToken": self.token, **headers},
        )


@override_settings(PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"])
class Tidewell(TestCase):
    """A test case with the demo data and a signed-in browser. ``history`` plays the past runs too.

    Passwords are hashed in a quick way here; that the real hash works is tested in test_access.
    """

    history = False
    sites: PracticeSites

    @classmethod
    def setUpClass(cls) -> None:
        cls.sites = PracticeSites()
        cls.addClassCleanup(cls.sites.close)
        super().setUpClass()

    @classmethod
    def setUpTestData(cls) -> None:
        scenario = Scenario(SCENARIO.folder)
        if not cls.history:
            scenario.data = lambda name: {} if name == "history" else SCENARIO.data(name)  # type: ignore[method-assign]
        demo.load(
            scenario, agent_urls=cls.sites.urls, token=TOKEN, clock=SystemClock(), say=lambda line: None
        )
        for name in ("ann", "ben"):
            User.objects.create_user(name, password=PASSWORD)

    def setUp(self) -> None:
        cache.clear()
        self.browser = Browser()
        self.assertEqual(self.browser.sign_in().status_code, 200)

    def problem(self, reply: Any, status: int, code: str) -> Any:
        """Check that a reply is this problem; returns its body."""
        self.assertEqual(reply.status_code, status, reply.content[:500])
        self.assertEqual(reply.headers["Content-Type"], "application/problem+json")
        body = reply.json()
        self.assertEqual((body["status"], body["code"]), (status, code), body)
        self.assertTrue(body["detail"])
        return body
