"""Live updates of runs: one pump per process reads the log and feeds the queues of all who listen.

A page holds no database connection. What each listener is sent carries the number of the last event, so a
page that comes back with Last-Event-ID misses nothing.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from django.db import OperationalError, close_old_connections, connection

from maestoso.core.codec import to_data
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState, fold
from maestoso.core.score import ScoreStep, run_score
from maestoso.engine.clock import SystemClock
from maestoso.server.estate.models import Site
from maestoso.server.runs.log import read_log
from maestoso.server.runs.models import Run
from maestoso.server.runs.picture import in_words, status
from maestoso.server.runs.shapes import StreamMessage

log = logging.getLogger("maestoso.stream")

EVERY_S = 0.1
KEEP_ALIVE_S = 10.0
CLOCK = SystemClock()


@dataclass(slots=True)
class Watched:
    """A run that somebody looks at."""

    state: RunState
    names: dict[str, str]
    steps: dict[str, ScoreStep]
    queues: set[asyncio.Queue[str]] = field(default_factory=set)


class Pump:
    """Reads the log in one thread with one connection, while anybody listens."""

    def __init__(self) -> None:
        self.watched: dict[int, Watched] = {}
        self._task: asyncio.Task[None] | None = None
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="stream")

    async def listen(self, pk: int, after: int) -> AsyncIterator[str]:
        """Server-sent events of one run: the whole score first, then what changes."""
        loop = asyncio.get_running_loop()
        queue: asyncio.Queue[str] = asyncio.Queue()
        if pk not in self.watched:
            fresh = await loop.run_in_executor(self._thread, _watch, pk)
            self.watched.setdefault(pk, fresh)
        watched = self.watched[pk]
        watched.queues.add(queue)
        if self._task is None or self._task.done():
            self._task = loop.create_task(self._pump())
        try:
            events = await loop.run_in_executor(self._thread, _read, pk, after)
            missed = [event for event in events if event.seq <= watched.state.seq]
            steps = tuple(watched.steps.values())
            yield await loop.run_in_executor(self._thread, _message, pk, watched, missed, steps)
            while True:
                try:
                    async with asyncio.timeout(KEEP_ALIVE_S):
                        text = await queue.get()
                except TimeoutError:
                    text = ": still here\n\n"
                yield text
        finally:
            watched.queues.discard(queue)
            if not watched.queues:
                self.watched.pop(pk, None)

    async def _pump(self) -> None:
        loop = asyncio.get_running_loop()
        while self.watched:
            try:
                heads = await loop.run_in_executor(self._thread, _heads, list(self.watched))
                for pk, head in heads.items():
                    watched = self.watched.get(pk)
                    if watched is not None and head > watched.state.seq:
                        events = await loop.run_in_executor(self._thread, _read, pk, watched.state.seq)
                        text = await loop.run_in_executor(self._thread, _news, pk, watched, events)
                        for queue in watched.queues:
                            queue.put_nowait(text)
            except OperationalError as error:
                log.warning("The database is away: %s", error)
                await asyncio.sleep(1.0)
            await asyncio.sleep(EVERY_S)


def _watch(pk: int) -> Watched:
    close_old_connections()
    state = fold(read_log(pk))
    names = dict(Site.objects.values_list("code", "name"))
    return Watched(state=state, names=names, steps={s.id: s for s in run_score(state, CLOCK.now())})


def _read(pk: int, after: int) -> list[Event]:
    return read_log(pk, after)


def _heads(pks: list[int]) -> dict[int, int]:
    try:
        close_old_connections()
        return dict(Run.objects.filter(pk__in=pks).values_list("pk", "last_seq"))
    except OperationalError:
        connection.close()
        raise


def _news(pk: int, watched: Watched, events: list[Event]) -> str:
    for event in events:
        watched.state.apply(event)
    steps = {step.id: step for step in run_score(watched.state, CLOCK.now())}
    changed = tuple(step for name, step in steps.items() if watched.steps.get(name) != step)
    watched.steps = steps
    return _message(pk, watched, events, changed)


def _message(pk: int, watched: Watched, events: list[Event], steps: tuple[ScoreStep, ...]) -> str:
    message = StreamMessage(
        status=status(pk, watched.state, watched.names, CLOCK.now()),
        events=in_words(watched.state, events),
        steps=steps,
    )
    return f"id: {watched.state.seq}\ndata: {json.dumps(to_data(message))}\n\n"


PUMP = Pump()
