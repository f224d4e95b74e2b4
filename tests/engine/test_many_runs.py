"""Many runs at once: on one engine, and on two of which one is stopped and goes on beyond its leases.

Fifty of them; ``MAESTOSO_MANY_RUNS=200`` takes two minutes.
"""

from __future__ import annotations

import asyncio
import os
import socket
import tempfile
import threading
import time
import unittest
from collections import Counter
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import uvicorn

from maestoso.core.model.plan import Member
from maestoso.core.runs.state import fold
from maestoso.engine.clock import SystemClock
from maestoso.engine.conductor import Conductor
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.store import Store
from maestoso.sites.client import HttpSite
from tests import worlds
from tests.practice_site import TOKEN
from tests.run_log import MemoryRunLog

RUNS = int(os.environ.get("MAESTOSO_MANY_RUNS", "50"))
PACE = 2000.0
LEASE_S = 3.0
PATIENCE_S = 300.0


class Engine:
    """An engine in a thread with an event loop of its own, which can be stopped in the middle of everything."""

    def __init__(self, log: MemoryRunLog, url: str, name: str) -> None:
        self.name = name
        self._log, self._url = log, url
        self._stop: asyncio.Event | None = None
        self._loop: asyncio.AbstractEventLoop | None = None
        self._there = threading.Event()
        self._thread = threading.Thread(target=lambda: asyncio.run(self._run()), daemon=True)
        self._thread.start()
        self._there.wait(30)

    async def _run(self) -> None:
        self._stop, self._loop = asyncio.Event(), asyncio.get_running_loop()
        async with HttpSite(self._url, TOKEN) as site:
            conductor = Conductor(self._log, lambda code: site, self.name, lease_s=LEASE_S)
            self._there.set()
            await conductor.conduct(self._stop)

    def freeze(self) -> threading.Event:
        """As SIGSTOP does: nothing of it goes on from now until the event is set, and then all of it does."""
        stands, thaw = threading.Event(), threading.Event()

        def stand() -> None:
            stands.set()
            thaw.wait(PATIENCE_S)

        assert self._loop is not None
        self._loop.call_soon_threadsafe(stand)
        stands.wait(PATIENCE_S)
        return thaw

    def close(self) -> None:
        """End it."""
        assert self._loop is not None and self._stop is not None
        self._loop.call_soon_threadsafe(self._stop.set)
        self._thread.join(60)


class ManyRuns(unittest.TestCase):
    def setUp(self) -> None:
        self.log = MemoryRunLog()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        clock = SystemClock()
        store = Store(Path(folder.name) / "b.sqlite", clock.now() - timedelta(days=1))
        pools = (worlds.HostPool(name="b-hosts", hosts=1, cores=10**6, memory_mib=10**9),)
        limits = replace(worlds.target().limits, power=50)
        spec = worlds.spec(inventory=worlds.target(limits=limits, host_pools=pools))
        self.site = PracticeSite(store.replay(spec), store, clock, TOKEN)
        point = self.site.world.points("shop")[-2]  # before anybody else lets its copying come up to now
        line = socket.socket()
        line.bind(("127.0.0.1", 0))
        self.url = f"http://127.0.0.1:{line.getsockname()[1]}"
        config = uvicorn.Config(application(self.site), log_level="error", access_log=False)
        server = uvicorn.Server(config)
        thread = threading.Thread(target=lambda: server.run(sockets=[line]), daemon=True)
        thread.start()
        self.addCleanup(thread.join, 30)
        self.addCleanup(setattr, server, "should_exit", True)
        plan = worlds.plan((Member(workload="queue", ready="powered-on"),))
        inputs = worlds.inputs(worlds.context(plan=plan), pace=PACE, unattended=True)
        group = replace(inputs.groups[0], point=point)
        for number in range(RUNS):
            self.log.begin(f"r-{number}", replace(inputs, mark=f"t{number}", groups=(group,)))

    def all_end(self, stopped: Engine | None = None) -> bool:
        """Until every run is over; one engine is stopped on the way, until the other takes over a run of it.

        Returns whether it did.
        """
        until, thaw, taken = time.monotonic() + PATIENCE_S, None, False
        its: list[str] = []
        while self.log.unfinished():
            self.assertLess(time.monotonic(), until, f"{len(self.log.unfinished())} runs do not end")
            begun = sum(len(run.events) > 8 for run in self.log.runs.values())
            if stopped is not None and not its and begun > RUNS // 4:
                thaw = stopped.freeze()
                # None, where it is between two runs: then it goes on, and is stopped later.
                its = [run for run in self.log.unfinished() if self.log.runs[run].owner == stopped.name]
            taken = taken or any(self.log.runs[run].owner != stopped.name for run in its)
            if thaw is not None and (taken or not its):
                thaw.set()
            time.sleep(0.05)
        return taken

    def nothing_is_wrong(self) -> None:
        """Every run passed in its log, each effect was once, and under fences that never fall."""
        for name, run in self.log.runs.items():
            state = fold(run.events)
            self.assertEqual((name, state.outcome, run.aside), (name, "passed", ""))
            self.assertEqual(run.fences, sorted(run.fences))
        keys = Counter(entry.key for entry in self.site.world.journal)
        self.assertEqual([key for key, times in keys.items() if times > 1], [])
        asked = {
            f"{name}:{event.data['step']}:{event.data['attempt']}"
            for name, run in self.log.runs.items() for event in run.events if event.kind == "step.asked"
        }  # fmt: skip
        self.assertLessEqual(set(keys), asked)
        fences: dict[str, int] = {}
        for entry in self.site.world.journal:
            run_of = entry.key.split(":")[0]
            self.assertGreaterEqual(entry.fence, fences.get(run_of, 0), entry)
            fences[run_of] = entry.fence

    def test_on_one_engine_all_end(self) -> None:
        engine = Engine(self.log, self.url, "one")
        self.all_end()
        engine.close()
        self.nothing_is_wrong()

    def test_on_two_engines_of_which_one_is_stopped_and_goes_on_all_end(self) -> None:
        engines = [Engine(self.log, self.url, name) for name in ("one", "two")]
        self.assertTrue(self.all_end(stopped=engines[0]), "nothing was taken over")
        for engine in engines:
            engine.close()
        self.nothing_is_wrong()
