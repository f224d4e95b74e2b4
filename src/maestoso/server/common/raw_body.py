"""Bodies that are files: taken as they are, so that ``curl --data-binary`` is enough."""

from __future__ import annotations

from typing import IO, Any

from rest_framework.parsers import BaseParser
from rest_framework.request import Request


def raw_body(most_bytes: int) -> type[BaseParser]:
    """A parser that reads a little more than is allowed, so that more can be refused in words."""

    class RawBody(BaseParser):
        media_type = "application/octet-stream"

        def parse(  # type: ignore[override]  # the framework takes any data for a body
            self, stream: IO[bytes], media_type: str | None = None, parser_context: Any = None
        ) -> bytes:  # fmt: skip
            return stream.read(most_bytes + 1)

    return RawBody


def body_of(request: Request) -> bytes:
    """What was sent; nothing at all is not even parsed."""
    sent: Any = request.data
    return sent if isinstance(sent, bytes) else b""
