"""The practice site, or an agent of your own, against the contract."""

from __future__ import annotations

import json
import os
import unittest
from pathlib import Path

from maestoso.practice import verbs as practised
from maestoso.sites.client import HttpSite
from maestoso.sites.contract import openapi
from maestoso.sites.reference import page
from maestoso.sites.verbs import REFUSALS, VERBS
from tests.practice_site import URL, LocalSite
from tests.sites.contract import SiteContract

DOCS = Path(__file__).resolve().parents[2] / "docs"


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
    """The document of the protocol is what client and practice site speak."""

    def test_the_committed_document_is_the_one_that_would_be_made(self) -> None:
        file = DOCS.parent / "src" / "maestoso" / "agent_kit" / "site-protocol.openapi.json"
        self.assertEqual(json.loads(file.read_text(encoding="utf-8")), json.loads(json.dumps(openapi())))

    def test_the_page_of_all_verbs_is_made_from_it(self) -> None:
        self.assertEqual((DOCS / "site-verbs.md").read_text(encoding="utf-8"), page())

    def test_a_practice_site_has_every_verb_and_no_other(self) -> None:
        self.assertEqual(set(practised.VERBS), set(VERBS))

    def test_every_code_of_a_refusal_says_something(self) -> None:
        of_verbs = {code for verb in VERBS.values() for code in verb.refusals}
        self.assertLessEqual(of_verbs, set(REFUSALS))

    def test_objects_are_open_and_only_what_has_no_default_is_required(self) -> None:
        shapes = openapi()["components"]["schemas"]
        self.assertTrue(all("additionalProperties" not in shape for shape in shapes.values()))
        self.assertEqual(shapes["Fenced"]["required"], ["was_running"])
        self.assertEqual(
            shapes["Capabilities"]["required"], ["protocol", "agent", "site", "practice", "verbs"]
        )


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
        good = {"verb": "make-sandbox", "subject": "x", "run": "r", "fence": 1, "args": {"mark": "m"}}
        cases = [
            ("PUT", "/operations/k", {"content": b"{not json"}, 400),
            ("PUT", "/operations/k", {"content": b"[" * 100_000}, 400),
            ("PUT", "/operations/k", {"json": []}, 400),
            ("PUT", "/operations/k", {"json": {**good, "fence": "one"}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "pace": 0}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "pace": -1}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "args": {}}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "args": {"mark": 1}}}, 400),
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

    async def test_what_a_newer_maestoso_says_more_is_not_minded(self) -> None:
        newer = {"verb": "make-sandbox", "subject": "x", "run": "r", "fence": 1, "colour": "blue",
                 "args": {"mark": "m", "speed": 3}}  # fmt: skip
        answer = await self.local.client._http.put("/operations/k", json=newer)
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(list(self.local.practice.world.ops), ["k"])

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
