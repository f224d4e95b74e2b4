"""A practice site in this process, spoken to over the real protocol without a socket."""

from __future__ import annotations

import asyncio
import contextlib
import tempfile
from datetime import timedelta
from pathlib import Path
from typing import Any

import httpx

from maestoso.engine.clock import SystemClock
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.store import Store
from maestoso.sites.client import HttpSite
from tests import worlds

TOKEN = "a-token-for-tests"
URL = "http://site-b.example"


class LocalSite:
    """Practice site B since yesterday; ``client`` speaks to it. ``restart`` replays what it kept."""

    def __init__(self, **changes: Any) -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.spec = worlds.spec(**changes)
        self.transport = Switch()
        self.client = HttpSite(URL, TOKEN, transport=self.transport)
        self._task: asyncio.Task[None] | None = None
        self._start()

    def _start(self) -> None:
        clock = SystemClock()
        self.store = Store(Path(self.folder.name) / "b.sqlite", clock.now() - timedelta(days=1))
        self.practice = PracticeSite(self.store.replay(self.spec), self.store, clock, TOKEN)
        self.transport.inner = httpx.ASGITransport(app=application(self.practice))
        self._task = asyncio.get_running_loop().create_task(self.practice.keep_time())

    async def restart(self) -> None:
        """As after kill -9: nothing is left but what was durable."""
        await self._end()
        self._start()

    async def close(self) -> None:
        """Take it away."""
        await self.client.close()
        await self._end()
        self.folder.cleanup()

    async def _end(self) -> None:
        if self._task is not None:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task
        self.store.close()


class Switch(httpx.AsyncBaseTransport):
    """A line that can be cut, before the request arrives or before its answer comes back."""

    def __init__(self) -> None:
        self.inner: httpx.AsyncBaseTransport | None = None
        self.cut = False
        self.swallow_answers = 0

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        """Pass a request on, or lose it."""
        if self.cut or self.inner is None:
            raise httpx.ConnectError("cut", request=request)
        answer = await self.inner.handle_async_request(request)
        if self.swallow_answers > 0 and request.method == "PUT":
            self.swallow_answers -= 1
            raise httpx.ReadTimeout("swallowed", request=request)
        return answer
