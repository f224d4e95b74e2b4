"""The demo data and its practice sites, copied from the prepared world, for tests of the server."""

from __future__ import annotations

import asyncio
import json
import re
import shutil
import socket
import tempfile
import threading
import time
import unittest
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

import uvicorn
from django.core.cache import cache
from django.db import connection
from django.test import Client, TestCase, override_settings

from maestoso.engine.clock import SystemClock
from maestoso.practice.scenario import Scenario
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.store import Store
from maestoso.server.access.tries import TRIES
from maestoso.server.common import seal_keys
from maestoso.server.config.settings import OPTIONS, SECRETS
from maestoso.server.estate import agents
from maestoso.server.estate.models import Site
from maestoso.sites.client import HttpSite
from tests.server import databases
from tests.server.people import make_person

SCENARIO = Scenario(Path(__file__).resolve().parents[2] / "demo" / "tidewell")
TOKEN = SECRETS.site_token
PEOPLE = ("ann", "ben")
PASSWORD = "correct-horse-battery"


def assert_tagged(case: unittest.TestCase, pdf: bytes) -> None:
    """A PDF says of every part what it is, so that it can be read aloud."""
    case.assertTrue(pdf.startswith(b"%PDF-"))
    packed = re.findall(rb"stream\r?\n(.*?)\r?\nendstream", pdf, re.S)
    # What is packed may end with what looks like the end of its line: then a byte of its check sum is not here.
    said = [zlib.decompressobj().decompress(one) for one in packed if one[:1] == b"x"]
    case.assertTrue(any(b"/StructTreeRoot" in one for one in said))


class PracticeSites:
    """All sites of the scenario, as they are in the prepared world, on loopback ports of their own in one thread."""

    def __init__(self) -> None:
        self.folder = tempfile.TemporaryDirectory()
        shutil.copytree(OPTIONS.var / "sites", self.folder.name, dirs_exist_ok=True)
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
            store = Store(Path(self.folder.name) / f"{code}.sqlite", clock.now())
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


def own_keys(clean_up: Callable[..., None], prepared: Path | None = None) -> None:
    """Sealing keys, and the mark of the register of runs beside them, that belong to one test or class alone.

    They are new, or a copy of those of the ``prepared`` world.
    """
    folder = tempfile.TemporaryDirectory()
    clean_up(folder.cleanup)
    own = Path(folder.name) / "keys"
    if prepared is not None:
        shutil.copytree(prepared, own)
    patched = mock.patch.object(seal_keys, "FOLDER", own)
    patched.start()
    clean_up(patched.stop)


def unlocked_client() -> Callable[[Site], HttpSite]:
    """Clients of sites; who asks for one within a transaction would let others wait for a site, and is wrong."""
    client, depth = agents.client, len(connection.savepoint_ids)

    def unlocked(site: Site) -> HttpSite:
        if len(connection.savepoint_ids) > depth:
            raise AssertionError(f"{site.name} is asked within a transaction, while rows may be locked")
        return client(site)

    return unlocked


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
        # A test is a transaction of its own; what the application does behind a commit is done all the same.
        with TestCase.captureOnCommitCallbacks(execute=True):
            return self.generic(
                method,
                f"/api/v1{path}",
                data,
                content_type="application/json",
                headers={"X-CSRFToken": self.token, **headers},
            )


@override_settings(PASSWORD_HASHERS=["django.contrib.auth.hashers.MD5PasswordHasher"])
class Tidewell(TestCase):
    """A test case with the demo data and a signed-in browser. ``history`` adds the past runs.

    Passwords are hashed in a quick way here; that the real hash works is tested in test_access.
    """

    history = False
    sites: PracticeSites

    @classmethod
    def setUpClass(cls) -> None:
        cls.sites = PracticeSites()
        cls.addClassCleanup(cls.sites.close)
        own_keys(cls.addClassCleanup, OPTIONS.var / "keys")
        super().setUpClass()

    @classmethod
    def setUpTestData(cls) -> None:
        databases.take_rows(databases.with_history() if cls.history else databases.PLAIN)
        for code, url in cls.sites.urls.items():
            Site.objects.filter(code=code).update(agent_url=url)
        for name in PEOPLE:
            make_person(name, password=PASSWORD)

    def setUp(self) -> None:
        unlocked = mock.patch.object(agents, "client", unlocked_client())
        unlocked.start()
        self.addCleanup(unlocked.stop)
        cache.clear()
        for name in PEOPLE:
            TRIES.succeeded(name)  # the tries of another test are not waited for
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
