"""What is so everywhere, live: one stream for a whole browser, however many pages it has open.

It says how the site line stands, and which records changed, so that pages ask again for what they show
of them. One look for all who listen, by one thread; a beat in between says that the stream still holds.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator, Collection
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from django.contrib.auth import SESSION_KEY, get_user_model
from django.db.models import Count, Max, Sum

from maestoso.core.codec import to_data
from maestoso.core.people.scope import Reach
from maestoso.engine.clock import SystemClock
from maestoso.server.access.listeners import AWAY, Listener, Sessions, reachable
from maestoso.server.access.reach import seen_by_user, seen_in
from maestoso.server.access.sessions import TOKEN, held_by, shown_by
from maestoso.server.audit.models import AuditHead
from maestoso.server.board.models import StoredBoard
from maestoso.server.board.site_line import site_line
from maestoso.server.board.stored import WATCHED_FOR, watch_board
from maestoso.server.common.news import hearing
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.models import Site
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.readiness.surroundings import as_of
from maestoso.server.runs.models import Run

log = logging.getLogger("maestoso.stream")

PATH = r"/api/v1/stream"
EVERY_S = 0.5
"""It looks at most so often."""
QUIET_S = 2.0
"""And without any news: what sites do, they do not announce."""
BEAT_S = 1.0
SESSIONS_EVERY_S = 2.0
BEAT = "event: beat\ndata: {}\n\n"
CLOCK = SystemClock()
Marks = dict[str, str]
"""By topic, what tells one state of its records from another."""


@dataclass(slots=True)
class Sent:
    """What was sent to one listener last."""

    who: str
    line: str = ""
    marks: Marks = field(default_factory=dict)


class LiveUpdates:
    """Looks while anybody listens."""

    def __init__(self) -> None:
        self.listeners: dict[Listener, Sent] = {}
        self._news = asyncio.Event()
        self._task: asyncio.Task[None] | None = None
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="live-updates")
        self.sessions = Sessions(self._thread)
        self._watched_at: datetime | None = None

    async def prepare(self, pk: int, after: int, session: str) -> None:
        """Nothing: whoever comes is told how everything stands with the next look."""

    async def listen(self, pk: int, after: int, session: str) -> AsyncIterator[str]:
        """Events ``line`` (the site line), ``changed`` (topics of records that changed) and ``beat``."""
        loop = asyncio.get_running_loop()
        listener = Listener(session)
        try:
            self.listeners[listener] = Sent(await loop.run_in_executor(self._thread, _who, session))
            self._news.set()
            if self._task is None or self._task.done():
                self._task = loop.create_task(self._pump())
            yield BEAT
            while not listener.over.is_set():
                yield (await listener.take(BEAT_S, BEAT))[1]
        except AWAY as error:
            log.warning("A stream ends, because the database is away: %s", error)
        finally:
            self.listeners.pop(listener, None)

    async def _pump(self) -> None:
        loop = asyncio.get_running_loop()
        sessions_at = loop.time()
        with hearing(self._news.set):
            while self.listeners:
                self._news.clear()
                try:
                    there = dict(self.listeners)
                    lines, marks = await loop.run_in_executor(
                        self._thread, self._read_reachable, {sent.who for sent in there.values()}
                    )
                    for listener, sent in there.items():
                        _send(listener, sent, lines[sent.who], marks)
                    if loop.time() - sessions_at > SESSIONS_EVERY_S:
                        sessions_at = loop.time()
                        await self.sessions.end_what_is_over(there)
                except AWAY as error:
                    log.warning("The database is away: %s", error)
                except Exception:
                    # Nothing that goes wrong with one look may end the streams of all.
                    log.exception("News could not be told; it is tried again")
                await asyncio.sleep(EVERY_S)
                with suppress(TimeoutError):
                    async with asyncio.timeout(QUIET_S - EVERY_S):
                        await self._news.wait()

    def _read_reachable(self, whos: Collection[str]) -> tuple[dict[str, str], Marks]:
        return reachable(self._read)(whos)

    def _read(self, whos: Collection[str]) -> tuple[dict[str, str], Marks]:
        now = CLOCK.now()
        if self._watched_at is None or not timedelta(0) <= now - self._watched_at < WATCHED_FOR / 2:
            watch_board(now)
            self._watched_at = now
        lines = {who: site_line(now, *_seer(who)) for who in whos}
        return {who: json.dumps(to_data(line)) for who, line in lines.items()}, read_marks()


def _send(listener: Listener, sent: Sent, line: str, marks: Marks) -> None:
    if line != sent.line:
        listener.put(0, f"event: line\ndata: {line}\n\n")
    if sent.marks and (topics := sorted(topic for topic, mark in marks.items() if sent.marks[topic] != mark)):
        listener.put(0, f"event: changed\ndata: {json.dumps({'topics': topics})}\n\n")
    sent.line, sent.marks = line, marks


def _who(session: str) -> str:
    """Who listens: a person, for all of whose browsers it is the same; or a token, which may see less."""
    if session.startswith(TOKEN):
        return session
    kept = held_by([session]).get(session, {})
    user = get_user_model().objects.filter(pk=str(kept.get(SESSION_KEY, 0))).first()
    return user.get_username() if user is not None else ""


def _seer(who: str) -> tuple[str, Reach]:
    """The name of who listens, and what they see."""
    if not who.startswith(TOKEN):
        return who, seen_by_user(who)
    token = shown_by(who)
    return token.user.get_username() if token is not None else "", seen_in(who)


def read_marks() -> Marks:
    """How the records stand: what people did (``changes``), the estate and plans, runs, what sites hold and
    copy (``points``), what waits for them (``requests``), and the board."""
    runs = Run.objects.order_by().aggregate(Count("pk"), Sum("last_seq"), Max("ended_at"))
    aside = Run.objects.filter(outcome="").exclude(put_aside="").values_list("pk", flat=True)
    requests = SiteRequest.objects.order_by().values("status").annotate(Count("pk"), Max("settled_at"))
    pulses = [(site.code, pulse(site)) for site in Site.objects.all()]
    points = [
        (code, one.lost_because, one.said and (one.said.groups, one.said.links)) for code, one in pulses
    ]
    inventories = [(code, one.said and one.said.inventory) for code, one in pulses]
    return {
        "changes": str(AuditHead.objects.values_list("number", flat=True).first()),
        "estate": str((as_of(), inventories)),
        "runs": str((runs, list(aside))),
        "points": str(hash(str(points))),
        "requests": str(list(requests)),
        "board": str(StoredBoard.objects.values_list("made_at", flat=True).first()),
    }


LIVE_UPDATES = LiveUpdates()
