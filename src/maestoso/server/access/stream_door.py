"""Event streams over HTTP, in front of Django's chain of middleware.

Hundreds of browsers open theirs in the same moment after a break. What a stream needs is one look at its
session; the chain takes a thread and a connection to the database for each.
"""

from __future__ import annotations

import asyncio
import re
from collections import Counter
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, MutableMapping
from typing import Any, ClassVar, Protocol

import orjson
from django.conf import settings
from django.http import parse_cookie
from django.http.request import split_domain_port, validate_host
from rest_framework.exceptions import NotAuthenticated

from maestoso.core.errors import DomainError
from maestoso.server.access.listeners import AWAY, Sessions
from maestoso.server.access.sessions import TOKEN
from maestoso.server.common import problems

HEADERS = [
    (b"content-type", b"text/event-stream"),
    (b"cache-control", b"no-store"),
    (b"x-accel-buffering", b"no"),
    (b"x-content-type-options", b"nosniff"),
]
Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]


MOST_OF_A_SESSION = 250


class TooManyStreams(DomainError):
    """One session listens more often than anybody needs. Remedy: close some."""

    code, status = "too-many-streams", 429


class Streams(Protocol):
    """What is streamed below one path; ``pk`` is the number in the path, 0 where it has none."""

    sessions: Sessions

    async def prepare(self, pk: int, after: int, session: str) -> None:
        """See to it that the first message is there. Raises a DomainError, or one of AWAY."""

    def listen(self, pk: int, after: int, session: str) -> AsyncIterator[str]:
        """Server-sent events behind number ``after``."""


class StreamDoor:
    """An ASGI application in front of another: answers for streams, and passes on the rest.

    ``streams`` are found by the paths that they answer for, of which a number may be a part. ``open`` is how
    many are being listened to, at all doors of this process, and ``of_session`` how many by each session.
    """

    open = 0
    of_session: ClassVar[Counter[str]] = Counter()

    def __init__(
        self, app: Callable[[Message, Receive, Send], Awaitable[None]], streams: Mapping[str, Streams]
    ) -> None:
        self._app = app
        self._streams = [(re.compile(path), there) for path, there in streams.items()]

    async def __call__(self, scope: Message, receive: Receive, send: Send) -> None:
        """``GET`` of one of the paths, by whoever has a session, or a program with a token."""
        asked = scope["type"] == "http" and scope["method"] == "GET"
        found = ((path.fullmatch(scope["path"]), there) for path, there in self._streams) if asked else ()
        match, streams = next(((match, there) for match, there in found if match), (None, None))
        pairs = scope.get("headers", ())
        headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in pairs}
        host = split_domain_port(headers.get("host", ""))[0]
        if match is None or streams is None or not validate_host(host, settings.ALLOWED_HOSTS):
            await self._app(scope, receive, send)
            return
        session = parse_cookie(headers.get("cookie", "")).get(settings.SESSION_COOKIE_NAME, "")
        shown = headers.get("authorization", "")
        if not session and shown.startswith(TOKEN):
            session = shown
        last = headers.get("last-event-id", "0")
        pk = int(match[1]) if match.re.groups else 0
        after = int(last) if re.fullmatch(r"[0-9]{1,9}", last) else 0
        try:
            if not session or await streams.sessions.is_over(session):
                raise NotAuthenticated
            if StreamDoor.of_session[session] >= MOST_OF_A_SESSION:
                raise TooManyStreams(
                    f"{MOST_OF_A_SESSION} event streams of this session are open already.",
                    "Close some of its pages or programs, and try again.",
                )
            await streams.prepare(pk, after, session)
        except (NotAuthenticated, DomainError, *AWAY) as error:
            await _refuse(send, error)
            return
        await send({"type": "http.response.start", "status": 200, "headers": HEADERS})
        StreamDoor.open += 1
        StreamDoor.of_session[session] += 1
        try:
            await _pass_on(streams.listen(pk, after, session), receive, send)
        finally:
            StreamDoor.open -= 1
            StreamDoor.of_session[session] -= 1
            if not StreamDoor.of_session[session]:
                del StreamDoor.of_session[session]
        await send({"type": "http.response.body", "body": b""})


async def _pass_on(stream: AsyncIterator[str], receive: Receive, send: Send) -> None:
    """Send what comes until it ends, or the browser goes away."""
    gone = asyncio.ensure_future(_until_gone(receive))
    try:
        while True:
            text = asyncio.ensure_future(anext(stream, None))
            try:
                await asyncio.wait((text, gone), return_when=asyncio.FIRST_COMPLETED)
            finally:
                if not text.done():
                    text.cancel()
                    await asyncio.wait((text,))
            if text.cancelled() or (said := text.result()) is None or gone.done():
                return
            await send({"type": "http.response.body", "body": said.encode(), "more_body": True})
    finally:
        gone.cancel()
        await stream.aclose()  # type: ignore[attr-defined]


async def _until_gone(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


async def _refuse(send: Send, error: Exception) -> None:
    said = problems.handle(error, {})
    headers = [(b"content-type", b"application/problem+json"), (b"cache-control", b"no-store")]
    await send({"type": "http.response.start", "status": said.status_code, "headers": headers})
    await send({"type": "http.response.body", "body": orjson.dumps(said.data)})
