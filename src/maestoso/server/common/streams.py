"""Replies that begin before all of them is made."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator

from asgiref.sync import sync_to_async


async def in_threads(parts: Iterator[bytes]) -> AsyncIterator[bytes]:
    """The parts of a slow iterator, each made in a thread and sent as soon as it is there."""
    take = sync_to_async(lambda: next(parts, None))
    while (part := await take()) is not None:
        yield part
