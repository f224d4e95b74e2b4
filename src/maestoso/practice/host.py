"""Practice sites for people who have no site agent yet: one process that is as many sites as are asked for.

``/sites/NOR/v1/...`` is the practice site NOR. It is made, empty, when it is first spoken to with the right
token, and becomes what Maestoso's records say it has.
"""

from __future__ import annotations

import asyncio
import hashlib
import hmac
import re
from collections.abc import Awaitable, Callable, MutableMapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from maestoso.agent_kit.web import problem
from maestoso.core.ports import Clock
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.spec import SiteSpec
from maestoso.practice.store import Store

Scope = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]
Send = Callable[[MutableMapping[str, Any]], Awaitable[None]]
_PATH = re.compile(r"/sites/([A-Z][A-Z0-9]{1,7})(/.*)")
MOST_SITES = 50


@dataclass(slots=True)
class _Running:
    site: PracticeSite
    app: Callable[[Scope, Receive, Send], Awaitable[None]]
    task: asyncio.Task[None]


class Host:
    """The ASGI application."""

    def __init__(self, folder: Path, clock: Clock, token: str) -> None:
        self.folder = folder
        self.clock = clock
        self.token = token
        self.running: dict[str, _Running] = {}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass a request on to the site that it names."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
            return
        match = _PATH.fullmatch(scope["path"])
        given = dict(scope["headers"]).get(b"authorization", b"")
        if not hmac.compare_digest(given, f"Bearer {self.token}".encode()):
            await problem(401, "unauthorised", "The bearer token is missing or wrong.")(scope, receive, send)
        elif match is None or (match[1] not in self.running and len(self.running) >= MOST_SITES):
            await problem(404, "not-found", "There is no practice site here.")(scope, receive, send)
        else:
            inner = {**scope, "path": match[2], "raw_path": match[2].encode()}
            await self._site(match[1]).app(inner, receive, send)

    def _site(self, code: str) -> _Running:
        known = self.running.get(code)
        if known is None:
            store = Store(self.folder / f"practice-{code}.sqlite", self.clock.now())
            seed = int.from_bytes(hashlib.sha256(code.encode()).digest()[:4], "big")
            site = PracticeSite(store.replay(SiteSpec(code=code, seed=seed)), store, self.clock, self.token)
            task = asyncio.create_task(site.keep_time())
            known = self.running[code] = _Running(site, application(site), task)
        return known

    async def _live(self, receive: Receive, send: Send) -> None:
        while True:
            message = await receive()
            if message["type"] == "lifespan.shutdown":
                for running in self.running.values():
                    running.task.cancel()
                    running.site.keep()
                    running.site.store.close()
            await send({"type": f"{message['type']}.complete"})
            if message["type"] == "lifespan.shutdown":
                return
