"""Open event streams: who listens, for which session, and what waits to be sent.

A page holds no connection to the database. A stream ends with its session, with the database, and where a
browser does not take what it is sent; browsers come back by themselves.
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import wraps
from typing import Any, TypeVar

from django.db import InterfaceError, OperationalError, close_old_connections, connection

from maestoso.server.access.sessions import ended

KEEP_ALIVE_S = 10.0
MOST_WAITING = 500
"""Messages that a browser may be behind; then its stream ends, and it comes back for what it missed."""
AWAY = (OperationalError, InterfaceError)
T = TypeVar("T")


@dataclass(slots=True, eq=False)
class Listener:
    """One open stream, with what waits to be sent and the session that it belongs to."""

    session: str
    waiting: asyncio.Queue[tuple[int, str]] = field(default_factory=lambda: asyncio.Queue(MOST_WAITING))
    over: asyncio.Event = field(default_factory=asyncio.Event)

    def put(self, seq: int, text: str) -> None:
        """Have a message sent."""
        try:
            self.waiting.put_nowait((seq, text))
        except asyncio.QueueFull:
            self.over.set()

    def end(self, why: str) -> None:
        """Have the stream end, with a remark that browsers pass over."""
        self.over.set()
        self.put(0, f": {why}\n\n")

    async def take(self, else_after_s: float, otherwise: str) -> tuple[int, str]:
        """What is to be sent next, or after a while without any ``otherwise``."""
        try:
            async with asyncio.timeout(else_after_s):
                return await self.waiting.get()
        except TimeoutError:
            return 0, otherwise


class Sessions:
    """Looks at the sessions of those who listen, in the thread that is given to it."""

    def __init__(self, thread: ThreadPoolExecutor) -> None:
        self._thread = thread
        self._asked: set[str] = set()
        self._looking: asyncio.Task[set[str]] | None = None

    async def is_over(self, session: str) -> bool:
        """Whether a session is none (any longer); asked once for all who ask in the same moment."""
        self._asked.add(session)
        if self._looking is None or self._looking.done():
            self._looking = asyncio.get_running_loop().create_task(self._read())
        return session in await asyncio.shield(self._looking)

    async def _read(self) -> set[str]:
        await asyncio.sleep(0)
        keys, self._asked, self._looking = self._asked, set(), None
        return await asyncio.get_running_loop().run_in_executor(self._thread, reachable(ended), keys)

    async def end_what_is_over(self, listeners: Iterable[Listener]) -> None:
        """End the streams whose sessions are no more."""
        there = list(listeners)
        if there:
            keys = {listener.session for listener in there}
            gone = await asyncio.get_running_loop().run_in_executor(self._thread, reachable(ended), keys)
            for listener in there:
                if listener.session in gone:
                    listener.end("your session is over")


def reachable(call: Callable[..., T]) -> Callable[..., T]:
    """A connection that broke is dropped, so that the next call gets another."""

    @wraps(call)
    def wrapped(*args: Any) -> T:
        try:
            close_old_connections()
            return call(*args)
        except AWAY:
            connection.close()
            raise

    return wrapped
