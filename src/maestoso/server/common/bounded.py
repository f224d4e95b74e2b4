"""Bodies that are too large for any address end before they fill memory or disk, whoever sends them."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from maestoso.core.files import LARGEST_FILE

LARGEST_BODY = LARGEST_FILE + 2**20
MOST_AT_ONCE = 16
"""Requests that are worked on at once: each has a thread and a connection to the database, which has 200."""
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]
Application = Callable[[Message, Receive, Send], Awaitable[None]]


class FewAtOnce:
    """An ASGI application in front of another, which works on no more than ``most`` requests at once.

    The others wait for their turn, which comes when their body is there: who sends slowly holds up nobody.
    Event streams are answered before this (stream_door).
    """

    def __init__(self, app: Application, most: int) -> None:
        self._app = app
        self._turns = asyncio.Semaphore(most)

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """Wait for a turn, and pass on."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        taken = False

        async def whole() -> Message:
            nonlocal taken
            message = await receive()
            if not taken and message["type"] == "http.request" and not message.get("more_body", False):
                await self._turns.acquire()
                taken = True
            return message

        try:
            await self._app(scope, whole, send)
        finally:
            if taken:
                self._turns.release()


class BoundedBodies:
    """An ASGI application in front of another, which sees no more than ``most`` bytes of any body."""

    def __init__(self, app: Application, most: int) -> None:
        self._app = app
        self._most = most

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """Pass on, or refuse."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        said = dict(scope["headers"]).get(b"content-length", b"0")
        if not said.isdigit() or len(said) > 18 or int(said) > self._most:
            await self._refuse(send)
            return
        read = 0
        over = False

        async def bounded() -> Message:
            nonlocal read, over
            message = await receive()
            read += len(message.get("body", b""))
            if read > self._most:
                over = True
                # The rest is not waited for: the application takes it for a client that went away.
                return {"type": "http.disconnect"}
            return message

        started = False

        async def watched(message: Message) -> None:
            nonlocal started
            started = True
            await send(message)

        await self._app(scope, bounded, watched)
        if over and not started:
            await self._refuse(send)

    async def _refuse(self, send: Send) -> None:
        detail = f"The request is larger than {self._most // 2**20} MiB. Send less at once."
        body = {
            "type": "about:blank",
            "title": "too-large",
            "status": 413,
            "code": "too-large",
            "detail": detail,
        }
        headers = [(b"content-type", b"application/problem+json"), (b"connection", b"close")]
        await send({"type": "http.response.start", "status": 413, "headers": headers})
        await send({"type": "http.response.body", "body": json.dumps(body).encode()})
