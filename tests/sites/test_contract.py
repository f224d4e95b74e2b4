"""The practice site, or an agent of your own, against the contract."""

from __future__ import annotations

import json
import os
import unittest
from pathlib import Path

from maestoso.sites.client import HttpSite
from maestoso.sites.contract import openapi
from tests.practice_site import URL, LocalSite
from tests.sites.contract import SiteContract


class ThePracticeSite(SiteContract, unittest.IsolatedAsyncioTestCase):
    """The agent that ships with Maestoso, unless another is named in the environment."""

    async def asyncSetUp(self) -> None:
        self.url = os.environ.get("MAESTOSO_AGENT_URL", "")
        self.transport = None
        if self.url:
            self.group = os.environ["MAESTOSO_AGENT_GROUP"]
            self.site = HttpSite(self.url, os.environ["MAESTOSO_AGENT_TOKEN"])
            self.addAsyncCleanup(self.site.close)
            return
        local = LocalSite()
        self.addAsyncCleanup(local.close)
        self.url, self.transport, self.group, self.site = URL, local.transport, "shop", local.client


class TheDocument(unittest.TestCase):
    """docs/site-protocol.openapi.json is what client and practice site speak."""

    def test_the_committed_document_is_the_one_that_would_be_made(self) -> None:
        file = Path(__file__).resolve().parents[2] / "docs" / "site-protocol.openapi.json"
        self.assertEqual(json.loads(file.read_text(encoding="utf-8")), json.loads(json.dumps(openapi())))


class BadRequests(unittest.IsolatedAsyncioTestCase):
    """Whatever is sent, the practice site answers with a problem and stays as it was."""

    async def asyncSetUp(self) -> None:
        self.local = LocalSite()
        self.addAsyncCleanup(self.local.close)

    async def problem(self, method: str, path: str, **rest: object) -> tuple[int, str]:
        http = self.local.client._http
        answer = await http.request(method, path, **rest)  # type: ignore[arg-type]
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        return answer.status_code, answer.json()["code"]

    async def test_each_is_refused_with_its_code(self) -> None:
        good = {"verb": "make-sandbox", "subject": "x", "run": "r", "fence": 1}
        cases = [
            ("PUT", "/operations/k", {"content": b"{not json"}, 400),
            ("PUT", "/operations/k", {"content": b"[" * 100_000}, 400),
            ("PUT", "/operations/k", {"json": []}, 400),
            ("PUT", "/operations/k", {"json": {**good, "fence": "one"}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "pace": 0}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "pace": -1}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "extra": 1}}, 400),
            ("PUT", "/operations/k", {"content": b"x" * 1_000_001}, 400),
            ("GET", "/operations?after=x", {}, 400),
            ("GET", "/operations?after=0&wait=long", {}, 400),
            ("GET", "/journal?after=x", {}, 400),
            ("POST", "/practice/faults", {"json": {"verb": "x", "effect": "explode"}}, 400),
            ("GET", "/operations/never", {}, 404),
            ("GET", "/points?group=none", {}, 404),
        ]
        for method, path, rest, status in cases:
            with self.subTest(f"{method} {path} {str(rest)[:40]}"):
                self.assertEqual((await self.problem(method, path, **rest))[0], status)
        self.assertEqual(self.local.practice.world.ops, {})

    async def test_faults_are_set_and_cleared_and_survive_a_restart(self) -> None:
        http = self.local.client._http
        fault = {"verb": "make-sandbox", "effect": "hang"}
        self.assertEqual((await http.post("/practice/faults", json=fault)).status_code, 200)
        await self.local.restart()
        self.assertEqual(len(self.local.practice.world.faults), 1)
        self.assertEqual((await http.delete("/practice/faults")).status_code, 200)
        self.assertEqual(self.local.practice.world.faults, [])


if __name__ == "__main__":
    unittest.main()
