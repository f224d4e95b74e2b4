"""Live updates of runs: one pump per process hears of news, and feeds the queues of all who listen.

A page holds no database connection. What each listener is sent carries the number of the last event, so a
page that comes back with Last-Event-ID misses nothing.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field

from django.db.models import Count, Q

from maestoso.core.codec import to_data
from maestoso.core.errors import LogCorrupt, NotFound
from maestoso.core.model.protection import CopyState
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState
from maestoso.core.score import ScoreStep, run_score
from maestoso.engine.clock import SystemClock
from maestoso.server.access.listeners import AWAY, KEEP_ALIVE_S, Listener, Sessions, reachable
from maestoso.server.access.reach import seen_in
from maestoso.server.common.news import hearing
from maestoso.server.estate.models import Site
from maestoso.server.runs.events import read_log
from maestoso.server.runs.fences import DELIVERED
from maestoso.server.runs.models import KeptFence, Run
from maestoso.server.runs.picture import copying, in_words, status
from maestoso.server.runs.shapes import StreamMessage
from maestoso.server.runs.states import current
from maestoso.server.runs.under_way import under_way

log = logging.getLogger("maestoso.stream")

EVERY_S = 0.1
"""News come at most so often."""
QUIET_S = 1.0
"""Without any it looks all the same: for what no process of this machine wrote."""
SESSIONS_EVERY_S = 2.0
UNWATCHED_S = 5.0
CLOCK = SystemClock()


@dataclass(slots=True)
class Watched:
    """A run that somebody looks at; all up to event ``seq`` was told, with ``steps`` as they were then.

    ``openings`` are first messages, made once for all who want the same one. ``beside`` tells one state from
    another of what a run is shown with and its log does not hold: fences are delivered after it has ended.
    """

    seq: int
    names: dict[str, str]
    steps: dict[str, ScoreStep]
    since: float
    beside: tuple[int, ...] = ()
    listeners: set[Listener] = field(default_factory=set)
    openings: dict[tuple[int, int], asyncio.Future[tuple[int, str]]] = field(default_factory=dict)


class Pump:
    """Reads the log in one thread with one connection, while anybody listens."""

    def __init__(self) -> None:
        self.watched: dict[int, asyncio.Future[Watched]] = {}
        self._news = asyncio.Event()
        self._task: asyncio.Task[None] | None = None
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="stream")
        self.sessions = Sessions(self._thread)

    async def prepare(self, pk: int, after: int, session: str) -> None:
        """See to it that the first message is there.

        Raises NotFound, also for a run that whoever has the session cannot see, or one of AWAY without a
        database.
        """
        loop = asyncio.get_running_loop()
        await loop.run_in_executor(self._thread, reachable(_check_seen), pk, session)
        await self._opening(pk, await self._watch(pk), after)

    async def listen(self, pk: int, after: int, session: str) -> AsyncIterator[str]:
        """Server-sent events of one run: the whole score first, then what changes.

        Each ``data`` is a StreamMessage, each ``id`` the number of its last event.

        It ends with its session, with the database, and where a browser does not take what it is sent;
        browsers come back by themselves.
        """
        listener = Listener(session)
        try:
            watched = await self._watch(pk)
            watched.listeners.add(listener)
            seq, text = await self._opening(pk, watched, after)
            yield text
            while not listener.over.is_set():
                number, text = await listener.take(KEEP_ALIVE_S, ": still here\n\n")
                # What came while the first message was made is in it already.
                if number == 0 or number > seq:
                    yield text
        except AWAY as error:
            log.warning("A stream of run %s ends, because the database is away: %s", pk, error)
        finally:
            future = self.watched.get(pk)
            if future is not None and future.done() and not future.cancelled() and future.exception() is None:
                future.result().listeners.discard(listener)

    async def _watch(self, pk: int) -> Watched:
        """The run as it is watched, folded once, however many ask at the same moment."""
        loop = asyncio.get_running_loop()
        if pk not in self.watched:
            self.watched[pk] = asyncio.ensure_future(
                loop.run_in_executor(self._thread, _watch, pk, loop.time())
            )
        future = self.watched[pk]
        try:
            watched = await asyncio.shield(future)
        except Exception:
            if self.watched.get(pk) is future:
                del self.watched[pk]
            raise
        if self._task is None or self._task.done():
            self._task = loop.create_task(self._pump())
        return watched

    async def _opening(self, pk: int, watched: Watched, after: int) -> tuple[int, str]:
        loop = asyncio.get_running_loop()
        key = (watched.seq, after)
        if key not in watched.openings:
            made = loop.run_in_executor(self._thread, _opening, pk, watched, after)
            # Older ones are of no use to anybody who comes now.
            watched.openings = {k: f for k, f in watched.openings.items() if k[0] == key[0]}
            watched.openings[key] = asyncio.ensure_future(made)
        future = watched.openings[key]
        try:
            return await asyncio.shield(future)
        except Exception:
            watched.openings.pop(key, None)
            raise

    async def _pump(self) -> None:
        loop = asyncio.get_running_loop()
        looked_at = loop.time()
        with hearing(self._news.set):
            while self.watched:
                self._news.clear()
                try:
                    there = self._there(loop.time())
                    await self._tell_news(there)
                    if loop.time() - looked_at > SESSIONS_EVERY_S:
                        looked_at = loop.time()
                        listening = (one for watched in there.values() for one in watched.listeners)
                        await self.sessions.end_what_is_over(listening)
                except AWAY as error:
                    log.warning("The database is away: %s", error)
                except Exception:
                    # Nothing that goes wrong with one run may end the streams of all.
                    log.exception("News could not be told; it is tried again")
                await asyncio.sleep(EVERY_S)
                with suppress(TimeoutError):
                    async with asyncio.timeout(QUIET_S):
                        await self._news.wait()

    async def _tell_news(self, there: dict[int, Watched]) -> None:
        """What is new goes to all who listen; what cannot be made now is made the next time."""
        loop = asyncio.get_running_loop()
        found = await loop.run_in_executor(self._thread, _heads, list(there))
        for pk, (head, beside) in found.items():
            watched, before = there[pk], there[pk].beside
            if head > watched.seq or beside != before:
                try:
                    seq, text = await loop.run_in_executor(self._thread, _news, pk, watched)
                except LogCorrupt as error:
                    log.warning("The streams of run %s end: %s", pk, error.sentence)
                    for listener in watched.listeners:
                        listener.end("the log of this run cannot be read")
                    continue
                watched.beside, watched.openings = beside, {}
                for listener in watched.listeners:
                    # Zero is never held to be in the first message already.
                    listener.put(seq if beside == before else 0, text)

    def _there(self, now: float) -> dict[int, Watched]:
        """Runs that are watched; those that nobody listens to any longer are let go."""
        found = {}
        for pk, future in list(self.watched.items()):
            if future.done() and not future.cancelled() and future.exception() is None:
                watched = future.result()
                if watched.listeners or now - watched.since < UNWATCHED_S:
                    found[pk] = watched
                else:
                    del self.watched[pk]
        return found


@reachable
def _check_seen(pk: int, session: str) -> None:
    run = Run.objects.filter(pk=pk).first()
    if run is not None and not seen_in(session).has_run(run.plan_code, run.source, run.target):
        raise NotFound(f"There is no run {pk}.", "See what there is.")


def _watch(pk: int, now: float) -> Watched:
    names = dict(Site.objects.values_list("code", "name"))
    with current(pk) as state:
        steps = {step.id: step for step in run_score(state, CLOCK.now())}
        seq = state.seq
    return Watched(seq=seq, names=names, steps=steps, since=now, beside=_beside([pk]).get(pk, ()))


@reachable
def _heads(pks: list[int]) -> dict[int, tuple[int, tuple[int, ...]]]:
    beside = _beside(pks)
    heads = Run.objects.filter(pk__in=pks).values_list("pk", "last_seq")
    return {pk: (head, beside.get(pk, ())) for pk, head in heads}


def _beside(pks: list[int]) -> dict[int, tuple[int, ...]]:
    """What is told of runs beside their logs: whether each is put aside; how many fences are kept for it, how
    many of them were delivered, and how many looked at; how far its steps are."""
    kept = KeptFence.objects.filter(run_id__in=pks).order_by().values("run_id")
    counted = kept.annotate(
        all=Count("pk"), there=Count("pk", filter=DELIVERED), seen=Count("pk", filter=~Q(seen_by=""))
    )
    fences = {row["run_id"]: (row["all"], row["there"], row["seen"]) for row in counted}
    runs = Run.objects.filter(pk__in=pks).only("put_aside", "outcome", "source", "target")
    sites = {site.code: site for site in Site.objects.all()} if any(not run.outcome for run in runs) else {}
    return {
        run.pk: (
            int(bool(run.put_aside)),
            *fences.get(run.pk, ()),
            hash(tuple(under_way(run, sites).items())),
        )
        for run in runs
    }


@reachable
def _opening(pk: int, watched: Watched, after: int) -> tuple[int, str]:
    """Events up to what was told to all; what came since goes to all with the next news."""
    missed = [event for event in read_log(pk, after) if event.seq <= watched.seq]
    copied = copying(Run.objects.get(pk=pk))
    with current(pk) as state:
        return watched.seq, _message(
            pk, watched.seq, watched, state, missed, tuple(watched.steps.values()), copied
        )


@reachable
def _news(pk: int, watched: Watched) -> tuple[int, str]:
    copied = copying(Run.objects.get(pk=pk))
    with current(pk) as state:
        events = [event for event in read_log(pk, watched.seq) if event.seq <= state.seq]
        steps = {step.id: step for step in run_score(state, CLOCK.now())}
        changed = tuple(step for name, step in steps.items() if watched.steps.get(name) != step)
        text = _message(pk, state.seq, watched, state, events, changed, copied)
        watched.seq, watched.steps = state.seq, steps
        return state.seq, text


def _message(
    pk: int, seq: int, watched: Watched, state: RunState, events: list[Event], steps: tuple[ScoreStep, ...],
    copied: dict[str, CopyState],
) -> str:  # fmt: skip
    message = StreamMessage(
        status=status(pk, state, watched.names, CLOCK.now(), copied),
        events=in_words(state, events),
        steps=steps,
    )
    return f"id: {seq}\ndata: {json.dumps(to_data(message))}\n\n"


PATH = r"/api/v1/runs/([0-9]{1,9})/stream"
PUMP = Pump()
