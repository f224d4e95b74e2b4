"""Probes over the real protocol."""

from __future__ import annotations

import asyncio
import unittest

from maestoso.engine.watch import Watch
from tests import worlds
from tests.practice_site import LocalSite

PATIENCE_S = 20.0


class Watching(unittest.IsolatedAsyncioTestCase):
    """One site is asked again and again, and may fall silent."""

    async def test_what_answers_and_a_site_that_falls_silent_are_noticed(self) -> None:
        site = LocalSite(inventory=worlds.target(workloads=tuple(worlds.WORKLOADS.values())))
        self.addAsyncCleanup(site.close)
        changed = asyncio.Event()
        watch = Watch({"B": site.client}, ["db", "nobody"], 20.0, changed.set)
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


if __name__ == "__main__":
    unittest.main()
