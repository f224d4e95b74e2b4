"""What answers at the plain port: whoever comes is sent to the public address, which speaks TLS.

An ASGI application of its own process: ``uvicorn maestoso.server.config.plain:application``.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from maestoso.server.config.exposure import origin
from maestoso.server.config.options import read_options

Message = MutableMapping[str, Any]
THERE = origin(read_options())


async def application(
    scope: Message, receive: Callable[[], Awaitable[Message]], send: Callable[[Message], Awaitable[None]]
) -> None:
    """Sends readers on; what else was sent here was sent in clear, and is refused."""
    if scope["type"] != "http":
        return
    reads = scope["method"] in ("GET", "HEAD")
    query = scope["query_string"]
    place = f"{THERE}{scope['raw_path'].decode('latin-1')}{'?' if query else ''}{query.decode('latin-1')}"
    headers = [(b"content-type", b"text/plain; charset=utf-8"), (b"cache-control", b"no-store")]
    if reads:
        headers.append((b"location", place.encode("latin-1")))
    text = f"Maestoso is at {THERE}." if reads else f"Nothing is taken in here, in clear. Speak to {THERE}."
    await send({"type": "http.response.start", "status": 308 if reads else 403, "headers": headers})
    await send({"type": "http.response.body", "body": b"" if scope["method"] == "HEAD" else text.encode()})
