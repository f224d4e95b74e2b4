"""The engine over the real protocol: whole runs, lost lines, crashes at named points, two engines."""

from __future__ import annotations

import asyncio
import contextlib
import unittest
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime
from unittest import mock

from maestoso.core.planning.isolated_test import PROVE_COPIES, VERDICT
from maestoso.core.ports import Append, AppendResult
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.state import RunState
from maestoso.engine.conductor import Conductor
from maestoso.practice.spec import Fault
from tests import worlds
from tests.practice_site import LocalSite
from tests.run_log import MemoryRunLog, RunLogContract

PACE = 400.0
PATIENCE_S = 60.0


class Crash(BaseException):
    """Stands for the death of the process: nothing may catch it and go on."""


class CrashingLog(MemoryRunLog):
    """Dies at the n-th append, before or after it is durable."""

    def __init__(self) -> None:
        super().__init__()
        self.crash_at: tuple[int, str] | None = None

    def append(self, batch: list[Append]) -> list[AppendResult]:  # type: ignore[override]
        """Append, or die on the way."""
        at = self.crash_at
        if at is not None and self.appends + 1 == at[0] and at[1] == "before commit":
            self.appends += 1
            self.crash_at = None
            raise Crash
        results = super().append(batch)
        if at is not None and self.appends == at[0]:
            self.crash_at = None
            raise Crash
        return results


class EngineCase(unittest.IsolatedAsyncioTestCase):
    """One site, one log, an engine that can die."""

    async def asyncSetUp(self) -> None:
        self.site = LocalSite()
        self.addAsyncCleanup(self.site.close)
        self.log = CrashingLog()
        self.log.begin("r-1", replace(worlds.inputs(), pace=PACE, groups=(self.group(),)))
        self.stop = asyncio.Event()

    def group(self):  # type: ignore[no-untyped-def]
        """The group at a point that the site holds now."""
        return replace(worlds.inputs().groups[0], point=self.site.practice.world.points("shop")[-2])

    def engine(self, owner: str = "one", lease_s: float = 15.0) -> Conductor:
        """An engine on the log."""
        return Conductor(self.log, lambda code: self.site.client, owner, lease_s=lease_s)

    async def conduct(self, until: Callable[[RunState], bool], engine: Conductor | None = None) -> None:
        """Let an engine run until the state is as wanted, dying and starting anew where it must."""
        async with asyncio.timeout(PATIENCE_S):
            while not until(self.log.state("r-1")):
                self.stop = asyncio.Event()
                current = engine or self.engine()
                task = asyncio.create_task(current.conduct(self.stop))
                try:
                    while not task.done() and not until(self.log.state("r-1")):
                        await asyncio.wait([task], timeout=0.02)
                finally:
                    if not task.done():
                        self.stop.set()
                    with contextlib.suppress(Crash):
                        await task
                    for link in current.links.values():
                        await link.close()

    def once_each(self) -> None:
        """No effect happened twice, by the site's own journal; no event is missing."""
        keys = Counter(entry.key for entry in self.site.practice.world.journal)
        self.assertEqual([key for key, times in keys.items() if times > 1], [])
        events = self.log.runs["r-1"].events
        self.assertEqual([event.seq for event in events], list(range(1, len(events) + 1)))
        fences = self.log.runs["r-1"].fences
        self.assertEqual(fences, sorted(fences))
        asked = {f"r-1:{e.data['step']}:{e.data['attempt']}" for e in events if e.kind == "step.asked"}
        self.assertLessEqual(set(keys), asked)

    async def judged(self) -> None:
        """To the verdict, and through the cleanup."""
        await self.conduct(lambda state: VERDICT in state.persons)
        self.log.say("r-1", Draft(kind="verdict.given", data={"verdict": "passed"}, by="ann"))
        await self.conduct(lambda state: state.finished)
        self.once_each()
        self.assertEqual(self.site.practice.world.remains("t1"), [])


class WholeRuns(EngineCase):
    """Nothing unusual."""

    async def test_a_test_is_conducted_judged_and_cleaned_up(self) -> None:
        await self.judged()
        self.assertEqual(self.log.state("r-1").outcome, "passed")

    async def test_what_people_say_meanwhile_is_heard(self) -> None:
        await self.conduct(lambda state: bool(state.steps["power-on:db"].attempt))
        self.log.say("r-1", Draft(kind="run.aborted", data={"reason": "enough"}, by="ann"))
        await self.conduct(lambda state: state.finished)
        self.assertEqual(self.log.state("r-1").outcome, "aborted")
        self.once_each()
        self.assertEqual(self.site.practice.world.remains("t1"), [])

    async def test_a_failure_waits_for_a_person_and_is_tried_again_under_a_new_key(self) -> None:
        self.site.practice.fault(Fault(verb="register", subject="db*", effect="fail", times=1))
        await self.conduct(lambda state: bool(state.failed))
        self.log.say("r-1", Draft(kind="step.retried", data={"step": "register:db"}, by="ann"))
        await self.judged()
        self.assertEqual(self.log.state("r-1").steps["register:db"].attempt, 2)

    async def test_no_copy_gets_power_when_the_sandbox_leaks(self) -> None:
        self.site.practice.fault(Fault(verb="make-sandbox", effect="leak"))
        await self.conduct(lambda state: state.held_because is not None)
        self.log.say("r-1", Draft(kind="run.aborted", data={"reason": "leak"}, by="ann"))
        await self.conduct(lambda state: state.finished)
        self.assertFalse([e for e in self.site.practice.world.journal if e.verb == "power-on"])
        self.assertNotEqual(self.log.state("r-1").steps[PROVE_COPIES].status, "done")


class LostLines(EngineCase):
    """The site goes away and comes back."""

    async def test_a_site_that_goes_away_is_said_and_the_run_goes_on_by_itself(self) -> None:
        await self.conduct(lambda state: bool(state.steps["power-on:db"].attempt))
        self.site.transport.cut = True
        engine = self.engine()
        await self.conduct(lambda state: "B" in state.lost_sites, engine)
        self.site.transport.cut = False
        await self.judged()
        kinds = [event.kind for event in self.log.runs["r-1"].events]
        self.assertIn("site.lost", kinds)
        self.assertIn("site.back", kinds)

    async def test_an_engine_that_begins_while_a_site_is_away_does_not_say_that_it_is_back(self) -> None:
        await self.conduct(lambda state: bool(state.steps["power-on:db"].attempt))
        self.site.transport.cut = True
        await self.conduct(lambda state: "B" in state.lost_sites)
        second = self.engine("two")
        await self.conduct(
            lambda _: "B" in second.links and second.links["B"].lost_because is not None, second
        )
        self.assertEqual([e.kind for e in self.log.runs["r-1"].events].count("site.back"), 0)
        self.site.transport.cut = False
        await self.judged()
        self.assertEqual([e.kind for e in self.log.runs["r-1"].events].count("site.back"), 1)

    async def test_answers_that_are_lost_on_the_way_back_cause_no_second_effect(self) -> None:
        self.site.transport.swallow_answers = 25
        await self.judged()
        self.assertEqual(self.site.transport.swallow_answers, 0)

    async def test_a_site_that_is_restarted_remembers(self) -> None:
        await self.conduct(lambda state: bool(state.steps["power-on:db"].attempt))
        await self.site.restart()
        await self.judged()


class Crashes(EngineCase):
    """The engine dies at every commit of a run, before and after it."""

    async def test_dying_before_a_commit_loses_nothing_and_does_nothing_twice(self) -> None:
        await self.die_everywhere("before commit")

    async def test_dying_after_a_commit_and_before_the_sending_loses_nothing(self) -> None:
        await self.die_everywhere("before send")

    async def die_everywhere(self, where: str) -> None:
        deaths = 0
        for at in range(1, 400, 3):
            if self.log.state("r-1").finished:
                break
            if VERDICT in self.log.state("r-1").persons:
                self.log.say("r-1", Draft(kind="verdict.given", data={"verdict": "passed"}, by="ann"))
            self.log.crash_at = (self.log.appends + 1 + at % 3, where)
            engine = self.engine()
            await self.conduct_once(engine)
            deaths += self.log.crash_at is None
        self.assertTrue(self.log.state("r-1").finished)
        self.assertGreater(deaths, 10)
        self.once_each()
        self.assertEqual(self.site.practice.world.remains("t1"), [])

    async def conduct_once(self, engine: Conductor) -> None:
        """One life: until it dies, or the run waits for a person, or ends."""

        def still(state: RunState) -> bool:
            return state.finished or VERDICT in state.persons

        stop = asyncio.Event()
        task = asyncio.create_task(engine.conduct(stop))
        async with asyncio.timeout(PATIENCE_S):
            while not task.done() and not still(self.log.state("r-1")):
                await asyncio.wait([task], timeout=0.02)
        stop.set()
        with contextlib.suppress(Crash):
            await task
        for link in engine.links.values():
            await link.close()


class TwoEngines(EngineCase):
    """Only one conducts."""

    async def test_a_second_engine_leaves_a_leased_run_alone_and_takes_it_when_the_lease_is_gone(
        self,
    ) -> None:
        first, second = self.engine("one"), self.engine("two")
        await first.turn()
        await second.turn()
        self.assertEqual((list(first.runs), list(second.runs)), (["r-1"], []))
        self.log.runs["r-1"].until = 0.0
        await second.turn()
        self.assertEqual(list(second.runs), ["r-1"])
        self.log.say("r-1", Draft(kind="run.held", data={"reason": "x"}, by="ann"))
        self.log.say("r-1", Draft(kind="run.resumed", by="ann"))
        # The first one does not know yet; its next word is refused by the counter and it lets go.
        answered = asyncio.Event()
        for engine in (first, second):
            engine.links["B"].on_change = answered.set
        async with asyncio.timeout(PATIENCE_S):
            while "r-1" in first.runs:
                await first.turn()
                await asyncio.sleep(0)
        await self.judged_by(second)
        await first.close()

    async def judged_by(self, engine: Conductor) -> None:
        await self.conduct(lambda state: VERDICT in state.persons, engine)
        self.once_each()

    async def test_a_log_that_cannot_be_read_keeps_no_other_run_waiting(self) -> None:
        self.log.begin("r-0", worlds.inputs())
        self.log.runs["r-0"].events.append(replace(self.log.runs["r-0"].events[0], seq=7))
        engine = self.engine("one")
        await engine.turn()
        self.assertIn("follows", self.log.runs["r-0"].aside)
        self.assertEqual(list(engine.runs), ["r-1"])
        self.log.runs["r-0"].events.pop()
        self.log.runs["r-0"].aside = ""  # somebody mended it, and has it tried again
        await engine.turn()
        self.assertEqual(set(engine.runs), {"r-0", "r-1"})
        await engine.close()

    async def test_what_the_log_cannot_take_of_one_run_puts_that_run_aside_alone(self) -> None:
        self.log.begin("r-0", worlds.inputs())
        append = self.log.append

        def picky(batch: Sequence[Append]) -> list[AppendResult]:
            if any(one.lease.run == "r-0" for one in batch):
                raise ValueError("this cannot be written")
            return append(batch)

        with mock.patch.object(self.log, "append", picky):
            engine = self.engine("one")
            await engine.turn()
        self.assertEqual(self.log.runs["r-0"].aside, "ValueError: this cannot be written")
        self.assertEqual(len(self.log.runs["r-0"].events), 1)
        self.assertGreater(len(self.log.runs["r-1"].events), 1)
        await self.judged_by(engine)

    async def test_a_decision_that_goes_wrong_puts_its_run_aside_and_the_others_go_on(self) -> None:
        self.log.begin("r-0", worlds.inputs())

        def badly(state: RunState, now: datetime) -> tuple[list[Event], datetime | None]:
            if state is engine.runs["r-0"].state:
                raise AssertionError("nobody thought of this")
            return settle(state, now)

        engine = self.engine("one")
        with mock.patch("maestoso.engine.conductor.settle", badly):
            await engine.turn()
        self.assertEqual(self.log.runs["r-0"].aside, "AssertionError: nobody thought of this")
        self.assertEqual(list(engine.runs), ["r-1"])
        await self.judged_by(engine)

    async def test_an_engine_that_stalls_beyond_its_lease_lets_go_by_itself(self) -> None:
        engine = self.engine("one")
        await engine.turn()
        engine.runs["r-1"].good_until = engine.clock.monotonic() - 1
        self.log.runs["r-1"].owner = "two"
        await engine.turn()
        self.assertEqual(engine.runs, {})
        await engine.close()

    async def test_a_log_that_is_away_is_waited_for(self) -> None:
        await self.conduct(lambda state: bool(state.steps["power-on:db"].attempt))
        self.log.away = True
        engine = self.engine()
        stop = asyncio.Event()
        task = asyncio.create_task(engine.conduct(stop))
        await asyncio.wait([task], timeout=0.5)
        self.assertFalse(task.done())
        self.log.away = False
        async with asyncio.timeout(PATIENCE_S):
            while VERDICT not in self.log.state("r-1").persons:
                await asyncio.wait([task], timeout=0.02)
        stop.set()
        await task
        self.once_each()


class TheLogInMemory(RunLogContract, unittest.TestCase):
    """The twin keeps the contract of the real one."""

    def setUp(self) -> None:
        self.log = MemoryRunLog()

    def new_run(self) -> str:
        name = f"r-{len(self.log.runs) + 1}"
        self.log.begin(name, worlds.inputs())
        return name


if __name__ == "__main__":
    unittest.main()
