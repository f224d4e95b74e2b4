"""The engine's loop: take in what happened, decide, make it durable, and only then send.

One conductor drives many runs. All events of all runs in one turn of the loop go into one transaction. What
is asked of a site is sent after the event that says so is durable; after a crash the same attempt is sent
again under its old key, which the site answers from memory if it had it.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, TypeVar

from maestoso.agent_kit.crash_points import crash_point
from maestoso.core.errors import DomainError
from maestoso.core.ports import Append, AppendResult, Lease, LogUnavailable, RunLog, SiteClient
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event, EventKind
from maestoso.core.runs.operations import OperationState, operation_for, outcome
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.watching import noticed, probed_at, watched
from maestoso.engine.clock import SystemClock
from maestoso.engine.site_link import PATIENCE, Patience, SiteLink
from maestoso.engine.watch import Watch

log = logging.getLogger("maestoso.engine")

T = TypeVar("T")
LEASE_S = 15.0
POLL_S = 0.1


@dataclass(slots=True)
class Driven:
    """A run under this engine's lease. ``asked`` maps keys in flight to their steps; ``watch`` probes the
    services of one that moves production."""

    state: RunState
    lease: Lease
    good_until: float
    wake_at: datetime | None = None
    asked: dict[str, str] = field(default_factory=dict)
    watch: Watch | None = None


class Conductor:
    """Drives every unfinished run it can get the lease of.

    ``site_client`` gives the client of a site by its code, and may block; ``owner`` names this engine and its
    process (see :mod:`maestoso.engine.incarnation`): one that comes back takes its runs over at once where
    the process that had them is known to be gone, and waits for the lease to run out where that may go on.
    The log is looked at every ``poll_s``, and whenever :meth:`wake` is called.
    """

    def __init__(
        self,
        run_log: RunLog,
        site_client: Callable[[str], SiteClient],
        owner: str,
        clock: SystemClock | None = None,
        lease_s: float = LEASE_S,
        patience: Patience = PATIENCE,
        poll_s: float = POLL_S,
        on_turn: Callable[[float], None] | None = None,
    ) -> None:
        self.log = run_log
        self.site_client = site_client
        self.owner = owner
        self.clock = clock or SystemClock()
        self.lease_s = lease_s
        self.patience = patience
        self.poll_s = poll_s
        self.on_turn = on_turn
        self.runs: dict[str, Driven] = {}
        self.links: dict[str, SiteLink] = {}
        self.answers: dict[str, OperationState] = {}
        self.troubles: dict[str, tuple[EventKind, str]] = {}
        self._wake = asyncio.Event()
        self._renewed = self.clock.monotonic()
        # One thread, so that the log is read and written by one connection, in order.
        self._thread = ThreadPoolExecutor(max_workers=1, thread_name_prefix="run-log")

    async def conduct(self, stop: asyncio.Event) -> None:
        """Go on until ``stop`` is set. A database that is away is waited for; nothing else ends it either.

        What goes wrong in one run puts that run aside, and the others go on.
        """
        tries = 0
        while not stop.is_set():
            try:
                began = self.clock.monotonic()
                await self.turn()
                tries = 0
                if self.on_turn is not None:
                    await self._in_thread(self.on_turn, self.clock.monotonic() - began)
            except LogUnavailable as error:
                log.warning("The run log cannot be reached (%s); trying again.", error)
                for run in list(self.runs):
                    self._let_go(run)
                tries += 1
                await asyncio.sleep(min(0.2 * 2**tries, 2.0))
            except Exception:
                # Of no single run, or it would have been put aside.
                log.exception("A turn of the engine failed; the next one tries again.")
                await asyncio.sleep(1.0)
            await self._rest()
        await self.close()

    def wake(self) -> None:
        """Look at the log now: something may have come that this engine did not write."""
        self._wake.set()

    async def close(self) -> None:
        """Give back what is held."""
        for driven in self.runs.values():
            if driven.watch is not None:
                driven.watch.end()
        for link in self.links.values():
            await link.close()
        leases = [driven.lease for driven in self.runs.values()]
        try:
            await self._in_thread(self.log.release, leases, self.owner)
        except LogUnavailable:
            log.warning("The leases could not be given back; they run out in %.0f s.", self.lease_s)
        self._thread.shutdown(wait=False)

    async def turn(self) -> None:
        """One turn of the loop."""
        heads = await self._in_thread(self.log.unfinished)
        await self._keep_leases()
        for run in [run for run in self.runs if run not in heads]:
            self._let_go(run)
        for run, head in heads.items():
            try:
                if run not in self.runs:
                    await self._take_over(run)
                    # Of many that are taken over at once, the first must not run out meanwhile.
                    await self._keep_leases()
                elif head > self.runs[run].state.seq:
                    for event in await self._in_thread(self.log.read, run, self.runs[run].state.seq):
                        self.runs[run].state.apply(event)
            except LogUnavailable:
                raise
            except Exception as error:
                await self._put_aside(run, error)
        await self._advance()

    async def _put_aside(self, run: str, error: Exception) -> None:
        """Conduct it no more until a person has it tried again; what went wrong is kept for them."""
        log.error("Run %s is put aside: an error was met.", run, exc_info=error)
        if run in self.runs:
            self._let_go(run)
        said = error.sentence if isinstance(error, DomainError) else f"{type(error).__name__}: {error}"
        await self._in_thread(self.log.put_aside, run, said)

    def _let_go(self, run: str) -> None:
        """Conduct it no more; what its sites say of it from now on is for whoever conducts it next."""
        driven = self.runs.pop(run)
        if driven.watch is not None:
            driven.watch.end()
        for key, step in driven.asked.items():
            self._forget(key, driven.state.graph[step].site)

    def _forget(self, key: str, site: str | None) -> None:
        self.answers.pop(key, None)
        self.troubles.pop(key, None)
        if site in self.links:
            self.links[site].forget(key)

    async def _in_thread(self, call: Callable[..., T], *args: Any) -> T:
        return await asyncio.get_running_loop().run_in_executor(self._thread, call, *args)

    async def _rest(self) -> None:
        """Sleep until something happens, a delay is over, or it is time to look at the log again."""
        now = self.clock.now()
        due = [(run.wake_at - now).total_seconds() for run in self.runs.values() if run.wake_at is not None]
        pause = max(min([self.poll_s, *due]), 0.0)
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(pause):
                await self._wake.wait()
        self._wake.clear()

    async def _keep_leases(self) -> None:
        now = self.clock.monotonic()
        # A stalled process must not go on by its own belief: two thirds of the lease is the local limit.
        for run in [run for run, driven in self.runs.items() if now > driven.good_until]:
            log.warning("Run %s: this engine was away too long and lets go.", run)
            self._let_go(run)
        if not self.runs or now - self._renewed < self.lease_s / 3:
            return
        self._renewed = now
        leases = [driven.lease for driven in self.runs.values()]
        kept = await self._in_thread(self.log.renew, leases, self.owner, self.lease_s)
        for run in list(self.runs):
            if run in kept:
                self.runs[run].good_until = now + self.lease_s * 2 / 3
            else:
                log.warning("Run %s: another engine has taken over.", run)
                self._let_go(run)

    async def _take_over(self, run: str) -> None:
        asked_at = self.clock.monotonic()
        lease = await self._in_thread(self.log.claim, run, self.owner, self.lease_s)
        if lease is None:
            return
        state = fold(await self._in_thread(self.log.read, run, 0))
        services, (sites, mark) = watched(state.inputs), probed_at(state.inputs)
        seen_from = set(sites) if services else set()
        spoken_to = {step.site for step in state.graph.steps if step.site} | seen_from
        for site in sorted(spoken_to - set(self.links)):
            client = await self._in_thread(self.site_client, site)
            self.links[site] = SiteLink(
                client, self._on_answer, self._on_trouble, self._wake.set, self.patience
            )
        driven = Driven(state=state, lease=lease, good_until=asked_at + self.lease_s * 2 / 3)
        if services:
            clients = {site: self.links[site].client for site in seen_from}
            names = list(dict.fromkeys(workload for workload, _ in services))
            driven.watch = Watch(clients, names, mark, state.inputs.pace, self._wake.set)
        self.runs[run] = driven
        log.info("Run %s: conducting from event %d under fence %d.", run, state.seq, lease.fence)
        for step in sorted(state.in_flight):
            self._send(run, driven, step)

    async def _advance(self) -> None:
        now = self.clock.now()
        batch: list[Append] = []
        for run, driven in list(self.runs.items()):
            try:
                events = self._take_in(driven, now)
                decided, driven.wake_at = settle(driven.state, now)
            except Exception as error:
                await self._put_aside(run, error)
                continue
            events += decided
            if events:
                batch.append(Append(lease=driven.lease, events=events))
        if not batch:
            return
        said = [f"{e.kind} {e.data.get('step', '')}" for append in batch for e in append.events]
        crash_point("before-commit", said)
        results = await self._append(batch)
        crash_point("after-commit", said)
        for append, result in results:
            run = append.lease.run
            try:
                if result == "written":
                    self._after_commit(run, append)
                elif result == "behind":
                    # Somebody's word came first. Nothing was sent yet, so the state is simply read anew.
                    self.runs[run].state = fold(await self._in_thread(self.log.read, run, 0))
                    self._wake.set()
                else:
                    log.warning("Run %s: the log refused fence %d.", run, append.lease.fence)
                    self._let_go(run)
            except LogUnavailable:
                raise
            except Exception as error:
                await self._put_aside(run, error)

    async def _append(self, batch: Sequence[Append]) -> list[tuple[Append, AppendResult]]:
        """All in one transaction; where the log cannot, run by run: what it cannot take is put aside."""
        try:
            results = await self._in_thread(self.log.append, batch)
            return list(zip(batch, results, strict=True))
        except LogUnavailable:
            raise
        except Exception as error:
            if len(batch) == 1:
                await self._put_aside(batch[0].lease.run, error)
                return []
        found = []
        for append in batch:
            found += await self._append([append])
        return found

    def _take_in(self, driven: Driven, now: datetime) -> list[Event]:
        drafts: list[Draft] = []
        for key, step in driven.asked.items():
            if key in self.answers and step in driven.state.in_flight:
                drafts.append(outcome(driven.state.graph[step], self.answers[key], driven.state.inputs.kind))
        events = []
        for draft in [*drafts, *self._troubles(driven), *self._reachability(driven), *_seen(driven)]:
            event = driven.state.event(draft, now)
            driven.state.apply(event)
            events.append(event)
        return events

    def _troubles(self, driven: Driven) -> list[Draft]:
        """Sites that do not take in what they are asked for, or lost their memory of it; each said once."""
        found: dict[tuple[EventKind, str], tuple[list[str], str]] = {}
        for key in sorted(set(self.troubles) & set(driven.asked)):
            (kind, reason), step = self.troubles.pop(key), driven.asked[key]
            steps, _ = found.setdefault((kind, driven.state.graph[step].site or ""), ([], reason))
            steps.append(step)
        return [
            Draft(kind=kind, data={"site": site, "steps": steps, "reason": reason})
            for (kind, site), (steps, reason) in found.items()
        ]

    def _reachability(self, driven: Driven) -> list[Draft]:
        drafts = []
        sites = {driven.state.graph[step].site for step in driven.state.in_flight}
        for site in sorted(site for site in sites if site):
            why = self.links[site].lost_because if site in self.links else None
            if why is not None and site not in driven.state.lost_sites:
                drafts.append(Draft(kind="site.lost", data={"site": site, "reason": why}))
        for site in sorted(driven.state.lost_sites):
            # Another engine may have lost it: that a new line knows of no trouble yet is not an answer.
            if self.links[site].answers:
                drafts.append(Draft(kind="site.back", data={"site": site}))
        return drafts

    def _after_commit(self, run: str, append: Append) -> None:
        driven = self.runs[run]
        settled = {
            event.data["step"] for event in append.events if event.kind in ("step.done", "step.failed")
        }
        for key, step in list(driven.asked.items()):
            if step in settled:
                # Also one that was not waited for any longer: what its site says later is not heard.
                del driven.asked[key]
                self._forget(key, driven.state.graph[step].site)
        for event in append.events:
            if event.kind == "step.asked":
                self._send(run, driven, event.data["step"])
        if driven.state.finished:
            log.info("Run %s: finished, %s.", run, driven.state.outcome)
            self._let_go(run)

    def _send(self, run: str, driven: Driven, step: str) -> None:
        site = driven.state.graph[step].site
        if site is None:
            raise AssertionError(f"{step} has no site and cannot be sent")
        operation = operation_for(driven.state, run, step)
        driven.asked[operation.key] = step
        crash_point("before-send", (operation.key,))
        self.links[site].send(operation, driven.lease.fence)

    def _on_trouble(self, key: str, kind: EventKind, reason: str) -> None:
        self.troubles[key] = (kind, reason)
        self._wake.set()

    def _on_answer(self, key: str, state: OperationState) -> None:
        crash_point("on-answer", (key,))
        self.answers[key] = state
        self._wake.set()


def _seen(driven: Driven) -> list[Draft]:
    """What the probes of a live run noticed since the last look."""
    if driven.watch is None or not driven.watch.complete:
        return []
    draft = noticed(driven.state, driven.watch.answering)
    return [] if draft is None else [draft]
