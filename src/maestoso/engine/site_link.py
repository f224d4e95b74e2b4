"""The engine's line to one site: sends operations until the site has them, and listens for what became of
them. A time-out is not a failure: the same key is sent again until the site answers."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import random
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from functools import partial

from maestoso.core.ports import FENCE_TOO_LOW, REIGN_PAST, SiteBusy, SiteClient, SiteRefused, SiteUnreachable
from maestoso.core.runs.events import EventKind
from maestoso.core.runs.operations import Operation, OperationState

DEAF_AFTER = 3
"""Tries that failed until it is said that an operation is not taken in."""
log = logging.getLogger("maestoso.engine")


@dataclass(frozen=True, slots=True, kw_only=True)
class Patience:
    """How long a line waits: for news, and between tries from ``first_pause_s`` up to ``longest_pause_s``.

    ``long_poll_s`` is short enough that a site which stops answering is missed within ten seconds.
    """

    long_poll_s: float = 5.0
    first_pause_s: float = 0.1
    longest_pause_s: float = 2.0

    def pause_s(self, tries: int) -> float:
        """Exponential with full jitter, so that many senders do not return at once."""
        return random.uniform(0.5, 1.0) * min(self.first_pause_s * 2.0**tries, self.longest_pause_s)


PATIENCE = Patience()


class SiteLink:
    """``on_answer(key, state)`` is called once the site says that an operation is settled; ``on_trouble(key,
    kind, reason)`` when it takes it in at no try (``site.deaf``), wants it brought later (``site.busy``), or
    does not know any more what it had taken in (``site.forgot``); ``on_change()`` when the site was lost,
    heard for the first time, or is back.

    ``lost_because`` is None while it can be listened to, and before that was tried. A site that says what
    changes and answers no request is not lost: what it was asked for is overdue one day, as if it went on
    saying that it is at work.
    """

    def __init__(
        self,
        client: SiteClient,
        on_answer: Callable[[str, OperationState], None],
        on_trouble: Callable[[str, EventKind, str], None],
        on_change: Callable[[], None],
        patience: Patience = PATIENCE,
    ) -> None:
        self.client = client
        self.patience = patience
        self.on_answer = on_answer
        self.on_trouble = on_trouble
        self.on_change = on_change
        self.lost_because: str | None = None
        self.waiting: dict[str, tuple[Operation, int]] = {}
        self._accepted: set[str] = set()
        self._cursor = 0
        self._epoch = ""
        self._listening = asyncio.Event()
        self._tasks: set[asyncio.Task[None]] = set()
        self.failures = 0
        self._keep(self._supervised(self._listen))

    @property
    def answers(self) -> bool:
        """Whether this line has heard the site, and has not lost it since."""
        return self._listening.is_set() and self.lost_because is None

    def send(self, operation: Operation, fence: int) -> None:
        """Bring the operation to the site and wait for its end; a key that already waits is not doubled."""
        known = self.waiting.get(operation.key)
        self.waiting[operation.key] = (operation, fence)
        if known is None:
            self._keep(self._supervised(partial(self._deliver, operation.key)))

    def forget(self, key: str) -> None:
        """Nobody waits for this operation any more: it is not sent again, and its end is not told."""
        self.waiting.pop(key, None)
        self._accepted.discard(key)

    async def close(self) -> None:
        """End all of it; the site keeps what it has."""
        tasks = list(self._tasks)
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    def _keep(self, work: object) -> None:
        task: asyncio.Task[None] = asyncio.ensure_future(work)  # type: ignore[call-overload]
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _supervised(self, work: Callable[[], Awaitable[None]]) -> None:
        """Nothing that goes wrong here ends the line without a word: it is said, counted, and begun anew."""
        while True:
            try:
                await work()
                return
            except Exception as error:
                self.failures += 1
                log.exception("The line to a site failed; it is begun anew")
                self._lost(f"What it says could not be worked with ({type(error).__name__}: {error}).")
                await asyncio.sleep(self.patience.longest_pause_s)

    async def _deliver(self, key: str) -> None:
        # The feed must be listened to before anything is sent, or a quick answer would be missed.
        await self._listening.wait()
        tries, told = 0, False
        while key in self.waiting:
            operation, fence = self.waiting[key]
            try:
                state = await self.client.put_operation(operation, fence)
            except SiteBusy as busy:
                if not told:
                    self.on_trouble(key, "site.busy", str(busy))
                told = True
                await asyncio.sleep(busy.wait_s)
                continue
            except SiteUnreachable as error:
                await asyncio.sleep(self.patience.pause_s(tries))
                tries += 1
                if tries == DEAF_AFTER and self.lost_because is None:
                    self.on_trouble(key, "site.deaf", str(error))
                continue
            except SiteRefused as refused:
                if refused.code not in (FENCE_TOO_LOW, REIGN_PAST):
                    refusal = OperationState(
                        key=key, status="failed", code=refused.code, reason=refused.reason
                    )
                    self._answer(refusal)
                return
            if key in self.waiting:
                self._accepted.add(key)
            self._answer(state)
            return

    async def _listen(self) -> None:
        tries = 0
        while True:
            try:
                if not self._listening.is_set():
                    first = await self.client.changes(-1, 0.0)
                    self._cursor, self._epoch = first.cursor, first.epoch
                    self._listening.set()
                    self.on_change()
                feed = await self.client.changes(self._cursor, self.patience.long_poll_s)
                # One that says no epoch is known by its cursor, which never goes back otherwise.
                gap = feed.epoch != self._epoch or feed.cursor < self._cursor
                gap = gap or self.lost_because is not None or tries > 0
                self._cursor, self._epoch, tries = feed.cursor, feed.epoch, 0
                self._heard_again()
                for state in feed.states:
                    self._answer(state)
                if gap:
                    await self._ask_for_all()
            except SiteBusy as busy:
                # Its feed tells by its cursor what was missed meanwhile.
                await asyncio.sleep(busy.wait_s)
            except SiteUnreachable as error:
                self._lost(str(error))
                await asyncio.sleep(self.patience.pause_s(tries))
                tries += 1
            except SiteRefused as refused:
                self._lost(f"It answers, but refuses to be listened to: {refused.reason}")
                await asyncio.sleep(self.patience.longest_pause_s)

    async def _ask_for_all(self) -> None:
        """After a gap nothing is taken for granted: ask what became of every key that waits.

        What was accepted and is not known any more is sent again, under the key that it had.
        """
        for key in list(self.waiting):
            with contextlib.suppress(SiteUnreachable, SiteRefused):
                state = await self.client.operation(key)
                if state is not None:
                    self._answer(state)
                elif key in self._accepted:
                    self._accepted.discard(key)
                    self.on_trouble(key, "site.forgot", "")
                    self._keep(self._supervised(partial(self._deliver, key)))

    def _answer(self, state: OperationState) -> None:
        if state.settled and state.key in self.waiting:
            self.forget(state.key)
            self.on_answer(state.key, state)

    def _lost(self, why: str) -> None:
        if self.lost_because is None:
            self.lost_because = why
            self.on_change()

    def _heard_again(self) -> None:
        if self.lost_because is not None:
            self.lost_because = None
            self.on_change()
