"""Probes over the real protocol."""

from __future__ import annotations

import asyncio
import unittest

import httpx

from maestoso.core.ports import SiteRefused
from maestoso.engine.watch import Watch
from maestoso.practice.things import Copy
from maestoso.sites.client import HttpSite
from tests import worlds
from tests.practice_site import LocalSite

PATIENCE_S = 20.0


class Watching(unittest.IsolatedAsyncioTestCase):
    """One site is asked again and again, and may fall silent."""

    async def test_what_answers_and_a_site_that_falls_silent_are_noticed(self) -> None:
        site = LocalSite(inventory=worlds.target(workloads=tuple(worlds.WORKLOADS.values())))
        self.addAsyncCleanup(site.close)
        changed = asyncio.Event()
        watch = Watch({"B": site.client}, ["db", "nobody"], "", 20.0, changed.set)
        self.addCleanup(watch.end)
        self.assertFalse(watch.complete)

        async def until(wanted: object) -> None:
            async with asyncio.timeout(PATIENCE_S):
                while watch.answering.get("B", "not asked") != wanted:
                    changed.clear()
                    await changed.wait()

        await until(frozenset({("db", "db-service")}))
        self.assertTrue(watch.complete)
        site.transport.cut = True
        await until(None)
        site.transport.cut = False
        await until(frozenset({("db", "db-service")}))

    async def test_of_a_test_only_its_copies_count(self) -> None:
        site = LocalSite(inventory=worlds.target(workloads=tuple(worlds.WORKLOADS.values())))
        self.addAsyncCleanup(site.close)
        copy = Copy(name="db.t1", workload="db", mark="t1", point="", registered=True, powered=True)
        site.practice.world.copies[copy.name] = copy
        site.practice.world.known["db"] = worlds.WORKLOADS["db"]
        self.assertEqual(await site.client.answering(["db", "app"], "t1"), frozenset())
        copy.heartbeat_at = 0.0
        self.assertEqual(await site.client.answering(["db", "app"], "t1"), {("db", "db-service")})
        self.assertEqual(await site.client.answering(["db"], "t2"), frozenset())

    async def test_an_agent_that_knows_of_no_copies_makes_no_probes(self) -> None:
        def answer(request: httpx.Request) -> httpx.Response:
            return httpx.Response(200, json={"services": {"db": ["db-service"]}})

        client = HttpSite("http://b.example", "t", transport=httpx.MockTransport(answer))
        self.addAsyncCleanup(client.close)
        with self.assertRaises(SiteRefused):
            await client.answering(["db"], "t1")
        self.assertEqual(await client.answering(["db"]), {("db", "db-service")})


if __name__ == "__main__":
    unittest.main()
