"""The log of runs in MariaDB: its contract, its leases, and who else wants the same rows."""

from __future__ import annotations

import io
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from typing import Any
from unittest import mock

from django.core.management import call_command
from django.core.management.base import CommandError
from django.db import OperationalError, connection, transaction
from django.test import TransactionTestCase

from maestoso.core.codec import to_data
from maestoso.core.errors import Refused
from maestoso.core.evidence.chain import ROOT
from maestoso.core.ports import Append, LogUnavailable
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.state import RunState, fold
from maestoso.engine.clock import SystemClock
from maestoso.server.common.deadlocks import AGAIN
from maestoso.server.evidence.register import next_number
from maestoso.server.runs import log as log_module
from maestoso.server.runs import services
from maestoso.server.runs.events import run_name
from maestoso.server.runs.log import DatabaseRunLog, write_events
from maestoso.server.runs.models import Run, RunEvent, RunStep
from maestoso.server.runs.projection import check_projection, write_steps, write_steps_of_ended
from maestoso.server.runs.services import control_run
from maestoso.server.runs.shapes import Control
from tests import worlds
from tests.run_log import RunLogContract
from tests.server.tidewell import own_keys


def make_run() -> Run:
    """A run of the small world, as the server would write it."""
    with transaction.atomic():
        number = next_number()
    run = Run.objects.create(
        id=number,
        plan_code="SHOP",
        plan_name="Shop",
        plan_version=1,
        kind="test",
        source="A",
        target="B",
        started_by="ann",
        started_at=worlds.NOW,
        rto_objective_s=1800,
        chain_head=ROOT,
    )
    first = Event(
        seq=1,
        at=worlds.NOW,
        run_s=0.0,
        kind="run.started",
        data={"inputs": to_data(worlds.inputs())},
        by="ann",
    )
    state = RunState(first)
    RunStep.objects.bulk_create(
        RunStep(run=run, step=s.id, verb=s.verb, phase=s.phase, workload=s.workload or "")
        for s in state.graph.steps
    )
    write_events(run, [first], fence=0)
    return run


class TheLogInMariaDB(RunLogContract, TransactionTestCase):
    """The adapter keeps the contract of the port."""

    def setUp(self) -> None:
        own_keys(self.addCleanup)
        self.log = DatabaseRunLog()

    def new_run(self) -> str:
        return run_name(make_run().pk)

    def test_of_sixteen_who_storm_a_lease_exactly_one_wins(self) -> None:
        for _ in range(5):
            run, wins = self.new_run(), []
            gate = threading.Barrier(16)

            def storm(
                owner: str, run: str = run, wins: list[str] = wins, gate: threading.Barrier = gate
            ) -> None:
                gate.wait()
                if self.log.claim(run, owner, 15) is not None:
                    wins.append(owner)
                connection.close()

            threads = [threading.Thread(target=storm, args=(f"e{n}",)) for n in range(16)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            self.assertEqual(len(wins), 1)

    def test_engines_that_look_for_runs_and_one_that_ends_them_never_stand_in_each_others_way(self) -> None:
        over, met = threading.Event(), list[str]()

        def look() -> None:
            while not over.is_set():
                try:
                    for run in runs:
                        self.log.claim(run, "another", 15)
                except LogUnavailable as error:
                    met.append(str(error))
            connection.close()

        runs = [self.new_run() for _ in range(40)]
        held = [self.log.claim(run, "one", 15) for run in runs]
        others = [threading.Thread(target=look) for _ in range(3)]
        for other in others:
            other.start()
        try:
            with mock.patch("maestoso.server.common.deadlocks.AGAIN", 0):
                for lease in held:
                    assert lease is not None
                    state = fold(self.log.read(lease.run))
                    end = Draft(kind="run.finished", data={"outcome": "aborted"})
                    events = [state.event(end, SystemClock().now())]
                    self.assertEqual(self.log.append([Append(lease=lease, events=events)]), ["written"])
        finally:
            over.set()
            for other in others:
                other.join()
        self.assertEqual(met, [])

    def test_transactions_that_meet_are_tried_again_and_that_is_no_trouble_of_the_database(self) -> None:
        run = self.new_run()
        lease = self.log.claim(run, "one", 15)
        real, met = log_module._add, [OperationalError(1213, "Deadlock"), OperationalError(1205, "Lock")]

        def meets(additions: Any) -> None:
            real(additions)
            if met:
                raise met.pop()

        assert lease is not None
        event = fold(self.log.read(run)).event(self.HOLD, SystemClock().now())
        with mock.patch.object(log_module, "_add", meets):
            self.assertEqual(self.log.append([Append(lease=lease, events=[event])]), ["written"])
        self.assertEqual([one.kind for one in self.log.read(run)].count("run.held"), 1)

    def test_a_persons_word_that_meets_another_change_is_written_once_all_the_same(self) -> None:
        run, met = make_run(), [OperationalError(1213, "Deadlock"), OperationalError(1205, "Lock")]

        def meets(*asked: Any, **more: Any) -> None:
            write_events(*asked, **more)
            if met:
                raise met.pop()

        with mock.patch.object(services, "write_events", meets):
            control_run(run.pk, Control(kind="hold", text="look"), by="ann", key="k", at=worlds.NOW)
        self.assertEqual([event.kind for event in self.log.read(run_name(run.pk))].count("run.held"), 1)
        met = [OperationalError(1213, "Deadlock")] * (2 + AGAIN)
        with mock.patch.object(services, "write_events", meets), self.assertRaises(OperationalError):
            control_run(run.pk, Control(kind="resume"), by="ann", key="r", at=worlds.NOW)
        self.assertEqual(len(met), 1)

    def test_a_run_that_is_put_aside_is_nobodys_until_it_is_tried_again(self) -> None:
        run = self.new_run()
        self.assertIsNotNone(self.log.claim(run, "one", 60))
        self.log.put_aside(run, "x" * 5000)
        self.assertNotIn(run, self.log.unfinished())
        Run.objects.update(put_aside="")
        self.assertIn(run, self.log.unfinished())
        self.assertIsNotNone(self.log.claim(run, "two", 60))

    def test_a_database_that_is_away_is_said_as_such(self) -> None:
        with (
            mock.patch(
                "maestoso.server.runs.log.Run.objects.filter", side_effect=OperationalError(2006, "gone")
            ),
            self.assertRaises(LogUnavailable),
        ):
            self.log.unfinished()

    def test_whatever_is_written_is_read_back_as_it_was(self) -> None:
        run = make_run()
        lease = self.log.claim(run_name(run.pk), "one", 15)
        assert lease is not None
        state, events = fold(self.log.read(lease.run)), []
        for text in (
            "", "\\", '\\"', "'%s'", "a\nb\tc\r", "\u2028 é 東 \U0001f6a2", "</script>", "\\u0041", "x" * 300_000, " ",
        ):  # fmt: skip
            for data in (
                {"reason": text},
                {"reason": text, "more": [1e-7, 1e300, -0.1, 2**53, True, None, {text: []}]},
            ):
                at = SystemClock().now().replace(microsecond=len(events) * 7)
                event = replace(
                    state.event(Draft(kind="run.held", data=data, by="ann o'hara"), at),
                    run_s=0.1 * len(events),
                )
                state.apply(event)
                events.append(event)
        self.assertEqual(self.log.append([Append(lease=lease, events=events)]), ["written"])
        self.assertEqual(self.log.read(lease.run, 1), events)
        run.refresh_from_db()
        self.assertEqual(check_projection(run), [])

    def test_rows_of_the_steps_are_what_the_log_amounts_to(self) -> None:
        run = make_run()
        name = run_name(run.pk)
        lease = self.log.claim(name, "one", 15)
        assert lease is not None
        state = fold(self.log.read(name))

        def write(*drafts: Draft) -> None:
            events = []
            for draft in drafts:
                event = state.event(draft, SystemClock().now())
                state.apply(event)
                events.append(event)
            events += settle(state, SystemClock().now())[0]
            self.assertEqual(self.log.append([Append(lease=lease, events=events)]), ["written"])

        write(Draft(kind="run.held", data={"reason": "x"}), Draft(kind="run.resumed"))
        write(Draft(kind="step.failed", data={"step": "clone-point:db", "code": "c", "reason": "r"}))
        write(Draft(kind="step.retried", data={"step": "clone-point:db"}, by="ann"))
        for step in sorted(state.in_flight):
            write(Draft(kind="step.done", data={"step": step, "result": {}}))
        write(Draft(kind="run.aborted", data={"reason": "enough"}, by="ann"))
        flying = sorted(state.in_flight)
        write(Draft(kind="step.failed", data={"step": flying[0], "code": "c", "reason": "r"}))
        while state.in_flight:
            write(Draft(kind="step.done", data={"step": min(state.in_flight), "result": {}}))
        run.refresh_from_db()
        self.assertEqual((run.outcome, run.steps_written), ("aborted", False))
        for _ in range(2):
            write_steps_of_ended(SystemClock())
            run.refresh_from_db()
            self.assertEqual((run.steps_written, check_projection(run)), (True, []))
        self.assertEqual(RunStep.objects.get(run=run, step=flying[0]).status, "cancelled")
        call_command("check_integrity", stdout=io.StringIO())

    def test_two_people_and_the_engine_speak_at_the_same_moment(self) -> None:
        """Everything that was accepted stands in the log once, in one order that each of them could live with."""
        for _ in range(4):
            run, gate = make_run(), threading.Barrier(3)
            name = run_name(run.pk)
            lease = self.log.claim(name, "one", 15)
            assert lease is not None
            ended, refused = sorted(fold(self.log.read(name)).in_flight)[:3], []
            behind = 0

            def engine(
                name: str = name, lease: Any = lease, ended: list[str] = ended, gate: Any = gate
            ) -> None:
                nonlocal behind
                gate.wait()
                for step in ended:
                    while True:
                        state = fold(self.log.read(name))
                        event = state.event(
                            Draft(kind="step.done", data={"step": step, "result": {}}), SystemClock().now()
                        )
                        result = self.log.append([Append(lease=lease, events=[event])])
                        if result == ["written"]:
                            break
                        self.assertEqual(result, ["behind"])
                        behind += 1

            def person(
                by: str, said: list[str], pk: int = run.pk, refused: Any = refused, gate: Any = gate
            ) -> None:
                gate.wait()
                for kind in said:
                    with transaction.atomic():
                        try:
                            control_run(
                                pk,
                                Control(kind=kind, text=by),
                                by=by,
                                key=f"{by}-{kind}",
                                at=SystemClock().now(),
                            )
                        except Refused as error:
                            refused.append((by, kind, error.sentence))

            calls = [
                engine,
                partial(person, "ann", ["hold", "resume"]),
                partial(person, "ben", ["hold", "abort"]),
            ]
            self.at_once(calls)
            events = self.log.read(name)
            self.assertEqual([event.seq for event in events], list(range(1, len(events) + 1)))
            self.assertEqual([e.data["step"] for e in events if e.kind == "step.done"], ended)
            told = [(e.by, e.kind) for e in events if e.by in ("ann", "ben") and e.kind != "run.started"]
            self.assertEqual(len(told) + len(refused), 4, (told, refused))
            self.assertIn(("ben", "run.aborted"), told)
            self.assertEqual(len(set(told)), len(told))
            self.assertEqual(check_projection(Run.objects.get(pk=run.pk)), [])

    def at_once(self, calls: list[Callable[[], None]]) -> None:
        """Each in a thread and on a connection of its own. Raises what one of them raised."""
        with ThreadPoolExecutor(len(calls)) as pool:
            for done in [pool.submit(self.apart, call) for call in calls]:
                done.result()

    @staticmethod
    def apart(call: Callable[[], None]) -> None:
        try:
            call()
        finally:
            connection.close()

    def test_a_touched_event_or_row_is_found(self) -> None:
        run = make_run()
        write_steps(run.pk)
        run.refresh_from_db()
        self.assertEqual(check_projection(run), [])
        RunStep.objects.filter(run=run, step="power-on:db").update(status="done")
        self.assertIn("power-on:db is done", check_projection(run)[0])
        RunEvent.objects.filter(run=run, seq=1).update(by="somebody")
        self.assertIn("broken at event 1", check_projection(run)[0])
        with self.assertRaises(CommandError):
            call_command("check_integrity", stdout=io.StringIO())
