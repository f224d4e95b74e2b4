"""The bell between processes: heard by all who are there, and never in anybody's way."""

from __future__ import annotations

import asyncio
import multiprocessing
import tempfile
import unittest
from pathlib import Path

from maestoso.engine.bell import SUFFIX, Bell, ring


class Ringing(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        kept = tempfile.TemporaryDirectory()
        self.addCleanup(kept.cleanup)
        self.folder = Path(kept.name) / "bells"

    async def heard(self, event: asyncio.Event) -> None:
        """Wait for it."""
        async with asyncio.timeout(30):
            await event.wait()

    async def test_everybody_hears_it_also_from_another_process(self) -> None:
        one, two = asyncio.Event(), asyncio.Event()
        bells = [Bell(self.folder, one.set), Bell(self.folder, two.set)]
        multiprocessing.get_context("spawn").Process(target=ring, args=(self.folder,)).start()
        await self.heard(one)
        await self.heard(two)
        for bell in bells:
            bell.close()
        self.assertEqual(list(self.folder.iterdir()), [])

    async def test_many_rings_are_heard_as_one(self) -> None:
        rings: list[int] = []
        bell = Bell(self.folder, lambda: rings.append(1))
        self.addCleanup(bell.close)
        for _ in range(2000):
            ring(self.folder)
        await asyncio.sleep(0)
        while not rings:
            await asyncio.sleep(0.01)
        self.assertEqual(len(rings), 1)

    async def test_for_others_is_not_for_oneself(self) -> None:
        rings: list[int] = []
        bell = Bell(self.folder, lambda: rings.append(1))
        self.addCleanup(bell.close)
        ring(self.folder, others=True)
        await asyncio.sleep(0.05)
        self.assertEqual(rings, [])

    async def test_who_died_is_forgotten_and_nobody_there_is_no_trouble(self) -> None:
        ring(self.folder)
        bell = Bell(self.folder, lambda: None)
        bell._loop.remove_reader(bell._socket)
        bell._socket.close()
        self.assertEqual([path.suffix for path in self.folder.iterdir()], [SUFFIX])
        ring(self.folder)
        self.assertEqual(list(self.folder.iterdir()), [])
