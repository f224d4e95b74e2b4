"""The run log in memory, and the contract that it and the one in MariaDB keep."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from subprocess import PIPE
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.ports import Append, AppendResult, Lease, LogUnavailable
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.state import RunState
from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import incarnation, known_gone
from tests import worlds

WHO = (
    "import sys; from maestoso.engine.incarnation import incarnation;"
    "print(incarnation(sys.argv[1]), flush=True); sys.stdin.read()"
)
"""A process that says who it would be as an engine, and goes on until nobody listens."""


@dataclass
class Kept:
    """One run."""

    events: list[Event]
    owner: str = ""
    fence: int = 0
    until: float = 0.0
    fences: list[int] = field(default_factory=list)
    aside: str = ""


class MemoryRunLog:
    """The RunLog port in memory. ``away`` makes it unreachable."""

    def __init__(self) -> None:
        self.runs: dict[str, Kept] = {}
        self.away = False
        self.appends = 0
        self.clock = SystemClock()
        self.lock = threading.RLock()

    def begin(self, run: str, inputs: RunInputs) -> None:
        """A run with its first event, as the server writes it."""
        first = Event(
            seq=1,
            at=self.clock.now(),
            run_s=0.0,
            kind="run.started",
            data={"inputs": to_data(inputs)},
            by="ann",
        )
        self.runs[run] = Kept(events=[first])

    def say(self, run: str, draft: Draft) -> None:
        """A person's event, written past the engine as the server does."""
        with self.lock:
            state = self.state(run)
            event = state.event(draft, self.clock.now())
            state.apply(event)
            self.runs[run].events.append(event)

    def state(self, run: str) -> RunState:
        """The state of a run."""
        from maestoso.core.runs.state import fold

        return fold(self.runs[run].events)

    def unfinished(self) -> Mapping[str, int]:
        """Runs without an end."""
        self._reach()
        return {
            name: run.events[-1].seq
            for name, run in self.runs.items()
            if run.events[-1].kind != "run.finished" and not run.aside
        }

    def put_aside(self, run: str, why: str) -> None:
        """Nobody conducts it."""
        self._reach()
        self.runs[run].aside = why

    def read(self, run: str, after: int = 0) -> list[Event]:
        """Events behind a number."""
        self._reach()
        with self.lock:
            return [event for event in self.runs[run].events if event.seq > after]

    def append(self, batch: Sequence[Append]) -> list[AppendResult]:
        """Add events under leases."""
        self._reach()
        self.appends += 1
        results: list[AppendResult] = []
        with self.lock:
            for append in batch:
                kept = self.runs[append.lease.run]
                if kept.fence != append.lease.fence:
                    results.append("lost")
                elif kept.events[-1].seq + 1 != append.events[0].seq:
                    results.append("behind")
                else:
                    kept.events += append.events
                    kept.fences += [append.lease.fence] * len(append.events)
                    results.append("written")
        return results

    def claim(self, run: str, owner: str, lease_s: float) -> Lease | None:
        """Take a lease."""
        self._reach()
        with self.lock:
            kept, now = self.runs[run], self.clock.monotonic()
            free = kept.until <= now or kept.owner == owner or known_gone(kept.owner, owner)
            if kept.events[-1].kind == "run.finished" or not free:
                return None
            kept.owner, kept.fence, kept.until = owner, kept.fence + 1, now + lease_s
            return Lease(run=run, fence=kept.fence)

    def renew(self, leases: Sequence[Lease], owner: str, lease_s: float) -> set[str]:
        """Keep leases."""
        self._reach()
        kept = set()
        for lease in leases:
            run = self.runs[lease.run]
            if (run.owner, run.fence) == (owner, lease.fence):
                run.until = self.clock.monotonic() + lease_s
                kept.add(lease.run)
        return kept

    def release(self, leases: Sequence[Lease], owner: str) -> None:
        """Give leases back."""
        for lease in leases:
            run = self.runs[lease.run]
            if (run.owner, run.fence) == (owner, lease.fence):
                run.until = 0.0

    def _reach(self) -> None:
        if self.away:
            raise LogUnavailable("switched off")


class RunLogContract:
    """Mixed into a test case that gives ``log`` and ``new_run()``."""

    log: Any

    def new_run(self) -> str:
        """A run with one event."""
        raise AssertionError("give a run")

    def next_events(self, run: str, *drafts: Draft) -> list[Event]:
        """Drafts as the next events of a run."""
        from maestoso.core.runs.state import fold

        state = fold(self.log.read(run))
        events = []
        for draft in drafts:
            event = state.event(draft, worlds.NOW)
            state.apply(event)
            events.append(event)
        return events

    HOLD = Draft(kind="run.held", data={"reason": "test"})
    RESUME = Draft(kind="run.resumed")

    def test_what_is_written_is_read_in_order(self: Any) -> None:
        run = self.new_run()
        lease = self.log.claim(run, "one", 15)
        events = self.next_events(run, self.HOLD, self.RESUME)
        self.assertEqual(self.log.append([Append(lease=lease, events=events)]), ["written"])
        self.assertEqual([e.kind for e in self.log.read(run)], ["run.started", "run.held", "run.resumed"])
        self.assertEqual(self.log.read(run, 2), events[1:])
        self.assertEqual(self.log.unfinished()[run], 3)

    def test_a_lease_goes_to_one_owner_and_a_restart_gets_its_own_back(self: Any) -> None:
        run = self.new_run()
        first = self.log.claim(run, "one", 15)
        self.assertIsNone(self.log.claim(run, "two", 15))
        again = self.log.claim(run, "one", 15)
        self.assertEqual(again.fence, first.fence + 1)

    def test_a_second_engine_of_the_same_name_waits_while_the_first_lives(self: Any) -> None:
        run, first, second = self.new_run(), incarnation("one"), self.another_process("one", alive=True)
        self.assertIsNotNone(self.log.claim(run, second, 15))
        self.assertIsNone(self.log.claim(run, first, 15))

    def test_an_engine_that_comes_back_takes_over_at_once_from_the_process_that_ended(self: Any) -> None:
        run, ended = self.new_run(), self.another_process("one", alive=False)
        lease = self.log.claim(run, ended, 15)
        self.assertIsNone(self.log.claim(run, incarnation("two"), 15))
        self.assertEqual(self.log.claim(run, incarnation("one"), 15).fence, lease.fence + 1)

    def another_process(self: Any, name: str, *, alive: bool) -> str:
        """Who an engine in another process of this machine is; it goes on till the test ends, or has ended."""
        process = subprocess.Popen([sys.executable, "-c", WHO, name], stdin=PIPE, stdout=PIPE, text=True)
        self.addCleanup(process.communicate)
        owner = process.stdout.readline().strip()
        if not alive:
            process.communicate()
        return owner

    def test_a_lease_that_ran_out_or_was_given_back_is_free(self: Any) -> None:
        run = self.new_run()
        first = self.log.claim(run, "one", -1)
        second = self.log.claim(run, "two", 15)
        self.assertEqual(second.fence, first.fence + 1)
        self.log.release([second], "two")
        self.assertIsNotNone(self.log.claim(run, "three", 15))

    def test_a_late_owners_writes_are_refused_by_the_counter(self: Any) -> None:
        run = self.new_run()
        late = self.log.claim(run, "one", -1)
        self.log.claim(run, "two", 15)
        events = self.next_events(run, self.HOLD)
        self.assertEqual(self.log.append([Append(lease=late, events=events)]), ["lost"])
        self.assertEqual(self.log.renew([late], "one", 15), set())
        self.log.release([late], "one")
        self.assertIsNone(self.log.claim(run, "three", 15))
        self.assertEqual(len(self.log.read(run)), 1)

    def test_an_event_that_somebody_else_overtook_is_behind(self: Any) -> None:
        run = self.new_run()
        lease = self.log.claim(run, "one", 15)
        stale = self.next_events(run, self.HOLD)
        self.log.append([Append(lease=lease, events=self.next_events(run, self.HOLD))])
        self.assertEqual(self.log.append([Append(lease=lease, events=stale)]), ["behind"])

    def test_one_run_that_is_refused_does_not_harm_the_others_of_its_batch(self: Any) -> None:
        good, bad = self.new_run(), self.new_run()
        lease, late = self.log.claim(good, "one", 15), self.log.claim(bad, "one", -1)
        self.log.claim(bad, "two", 15)
        batch = [
            Append(lease=late, events=self.next_events(bad, self.HOLD)),
            Append(lease=lease, events=self.next_events(good, self.HOLD)),
        ]
        self.assertEqual(self.log.append(batch), ["lost", "written"])

    def test_a_kept_lease_is_kept(self: Any) -> None:
        run = self.new_run()
        lease = self.log.claim(run, "one", 15)
        self.assertEqual(self.log.renew([lease], "one", 15), {run})
