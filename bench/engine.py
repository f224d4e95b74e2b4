"""The run engine against Celery and Redis: ``python -m bench.engine [rounds]``. Asserts nothing.

A fan-out of 2,000 steps that do nothing and a chain of 500, each made durable in MariaDB before it is sent and
recorded when it is done; beside it the same by Celery workers on a private Redis with the append-only file
flushed on every write, and each result in the same MariaDB. Rounds are interleaved; the median counts. Needs
Debian's redis-server, and starts everything it needs on loopback ports of its own.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

FAN, CHAIN, LONG = 2000, 500, 100_000


class Instant:
    """A site that has done everything the moment it is asked. The SiteClient port, without a network."""

    def __init__(self) -> None:
        from maestoso.core.runs.operations import OperationState

        self.state = OperationState

    async def put_operation(self, operation: Any, fence: int) -> Any:
        """Done."""
        return self.state(key=operation.key, status="done")

    async def operation(self, key: str) -> Any:
        """Done as well."""
        return self.state(key=key, status="done")

    async def changes(self, after: int, wait_s: float) -> Any:
        """Nothing ever changes later."""
        from maestoso.core.ports import Feed

        await asyncio.sleep(0.0 if after < 0 else wait_s)
        return Feed(states=[], cursor=0)


@contextlib.contextmanager
def redis(folder: Path) -> Iterator[str]:
    """A private Redis that forgets nothing; its address."""
    from tests.ports import free_ports

    from maestoso.server.config.options import Options

    port = free_ports(Options(), sites=0).web_port
    command = [
        "redis-server", "--port", str(port), "--bind", "127.0.0.1", "--dir", str(folder),
        "--appendonly", "yes", "--appendfsync", "always", "--save", "",
    ]  # fmt: skip
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL)
    try:
        time.sleep(1.0)
        yield f"redis://127.0.0.1:{port}/0"
    finally:
        process.terminate()
        process.wait(10)


@contextlib.contextmanager
def workers(url: str, folder: Path) -> Iterator[float]:
    """Two Celery worker processes; how long they took to be ready."""
    env = {**os.environ, "BENCH_BROKER": url}
    command = [
        sys.executable, "-m", "celery", "-A", "bench.celery_app", "worker", "--concurrency", "2",
        "-l", "WARNING", "--without-gossip", "--without-mingle",
    ]  # fmt: skip
    begin = time.perf_counter()
    with (folder / "worker.log").open("w") as log:
        process = subprocess.Popen(command, env=env, stdout=log, stderr=log)
    try:
        from bench.celery_app import app

        while not app.control.ping(timeout=0.2):
            pass
        yield time.perf_counter() - begin
    finally:
        process.terminate()
        process.wait(20)


def ours(steps: int, chain: bool) -> tuple[float, int, float]:
    """Seconds of a run of ``steps``, its commits, and the median of a single commit."""
    from maestoso.engine.conductor import Conductor

    with graph_of(steps, chain):
        pk, begin = begun()
        begin()
        kept = Counting()
        seconds = asyncio.run(_conduct(Conductor(kept, lambda code: Instant(), "bench"), pk))
    return seconds, kept.commits, statistics.median(kept.took)


def begun() -> tuple[int, Callable[[], None]]:
    """A run of the graph that runs are compiled to, and what lets engines see it."""
    from bench.worlds import shapeless
    from maestoso.core.codec import to_data
    from maestoso.core.evidence.chain import ROOT
    from maestoso.core.runs.events import Event
    from maestoso.core.runs.state import RunState
    from maestoso.engine.clock import SystemClock
    from maestoso.server.runs import log
    from maestoso.server.runs.models import Run, RunStep

    clock = SystemClock()
    data = {"inputs": to_data(shapeless())}
    first = Event(seq=1, at=clock.now(), run_s=0.0, kind="run.started", data=data, by="b")
    run = Run.objects.create(
        plan_code="B", plan_name="Bench", plan_version=1, kind="test", source="A", target="B",
        started_by="b", started_at=clock.now(), rto_objective_s=60, chain_head=ROOT,
    )  # fmt: skip
    steps = RunState(first).graph.steps
    rows = [RunStep(run=run, step=s.id, verb=s.verb, phase=s.phase) for s in steps]
    RunStep.objects.bulk_create(rows, batch_size=1000)
    return run.pk, lambda: log.write_events(run, [first], fence=0)


async def _conduct(engine: Any, pk: int) -> float:
    from maestoso.server.runs.events import run_name

    stop = asyncio.Event()
    begin = time.perf_counter()
    task = asyncio.create_task(engine.conduct(stop))
    name, seen = run_name(pk), False
    while not (seen and name not in engine.runs):
        seen = seen or name in engine.runs
        await asyncio.sleep(0.005)
    seconds = time.perf_counter() - begin
    stop.set()
    await task
    return seconds


class Counting:
    """The run log in MariaDB, counting commits and how long each took."""

    def __init__(self) -> None:
        from maestoso.server.runs.log import DatabaseRunLog

        self._log = DatabaseRunLog()
        self.commits = 0
        self.took: list[float] = []

    def append(self, batch: Any) -> Any:
        """As the log does."""
        begin = time.perf_counter()
        found = self._log.append(batch)
        self.took.append(time.perf_counter() - begin)
        self.commits += 1
        return found

    def __getattr__(self, name: str) -> Any:
        return getattr(self._log, name)


@contextlib.contextmanager
def graph_of(steps: int, chain: bool) -> Iterator[None]:
    """Runs are compiled to this graph: ``steps`` at once, or one after the other."""
    from unittest import mock

    from maestoso.core.planning.graph import Step, StepGraph

    graph = StepGraph(
        Step(
            id=f"s{n}", verb="register", subject="x", site="B", phase="prepare", title="x",
            after=(f"s{n - 1}",) if chain and n else (),
        )
        for n in range(steps)
    )  # fmt: skip
    with (
        mock.patch("maestoso.core.runs.state.compile_run", lambda inputs: graph),
        mock.patch("maestoso.core.runs.decide._outcome", lambda state: "passed"),
    ):
        yield


def theirs(steps: int, chain: bool) -> float:
    """Seconds of the same by Celery; every result is one row in MariaDB."""
    from bench.celery_app import app, done_rows, step

    run = time.monotonic_ns() % 10**9
    begin = time.perf_counter()
    if chain:
        for n in range(steps):
            step.apply_async((run, n))
            while done_rows(run) <= n:
                time.sleep(0.0005)
    else:
        with app.producer_pool.acquire(block=True) as producer:
            for n in range(steps):
                step.apply_async((run, n), producer=producer)
        while done_rows(run) < steps:
            time.sleep(0.005)
    return time.perf_counter() - begin


def resume() -> float:
    """Seconds in which a log of 100,000 events is folded."""
    from bench.worlds import shapeless
    from maestoso.core.codec import to_data
    from maestoso.core.runs.events import Draft, Event
    from maestoso.core.runs.state import RunState, fold
    from maestoso.engine.clock import SystemClock

    now = SystemClock().now()
    data = {"inputs": to_data(shapeless())}
    first = Event(seq=1, at=now, run_s=0.0, kind="run.started", data=data, by="b")
    with graph_of(LONG // 2, chain=False):
        state, events = RunState(first), [first]
        for n in range(LONG // 2):
            for draft in (
                Draft(kind="step.asked", data={"step": f"s{n}", "attempt": 1}),
                Draft(kind="step.done", data={"step": f"s{n}", "result": {}}),
            ):
                events.append(state.event(draft, now))
                state.apply(events[-1])
        begin = time.perf_counter()
        fold(events)
        return time.perf_counter() - begin


def main() -> None:
    """Print the ratios beside the goals."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    with private_records():
        measure(rounds)


@contextlib.contextmanager
def private_records() -> Iterator[None]:
    """A private MariaDB with our tables, whose address is in the environment."""
    from tests import prepared

    from maestoso.cli import database
    from maestoso.cli.keys import make_secrets
    from maestoso.cli.processes import Processes

    with prepared.scratch() as options:
        secrets = make_secrets(options)
        processes = Processes(options, secrets, practice=False)
        database.initialise(options, secrets, prepared.LOG)
        processes.start_supervisor(everything=False)
        try:
            processes.wait_for_records()
            os.environ.update(processes.environment())
            import django
            from django.core.management import call_command

            django.setup()
            call_command("migrate", interactive=False, verbosity=0)
            yield
        finally:
            processes.stop()


def measure(rounds: int) -> None:
    """All rounds."""
    folder = Path(tempfile.mkdtemp(prefix="maestoso-bench-"))
    found: dict[str, list[float]] = {}

    def keep(name: str, value: float) -> None:
        found.setdefault(name, []).append(value)

    def timed(name: str, work: Callable[[], float]) -> None:
        keep(name, work())

    try:
        with redis(folder) as url:
            os.environ["BENCH_BROKER"] = url
            with workers(url, folder) as started_s:
                for _ in range(rounds):
                    seconds, commits, single = ours(FAN, chain=False)
                    keep("fan", seconds)
                    keep("fan commits", commits / FAN)
                    timed("fan celery", lambda: theirs(FAN, chain=False))
                    seconds, commits, single = ours(CHAIN, chain=True)
                    keep("chain", seconds)
                    keep("chain commits", commits / CHAIN)
                    keep("chain step over commit", seconds / CHAIN / single)
                    timed("chain celery", lambda: theirs(CHAIN, chain=True))
                    timed("resume", resume)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    middle = {name: statistics.median(values) for name, values in found.items()}
    print(f"fan-out of {FAN}: {FAN / middle['fan']:.0f} steps/s, {FAN / middle['fan celery']:.0f} by Celery:")
    ratios = [theirs / ours for theirs, ours in zip(found["fan celery"], found["fan"], strict=True)]
    print(
        f"  {statistics.median(ratios):.1f} times, {min(ratios):.1f} in the worst round (goal 10);"
        f" {middle['fan commits']:.3f} commits a step (goal 0.02)"
    )
    print(
        f"chain of {CHAIN}: {CHAIN / middle['chain']:.0f} steps/s, {CHAIN / middle['chain celery']:.0f} by Celery:"
    )
    each = middle["chain step over commit"]
    print(
        f"  {middle['chain commits']:.3f} commits a step (goal 1.01), each of {each:.1f} single commits (goal 2)"
    )
    print(
        f"{LONG} events are resumed in {middle['resume']:.2f} s; a Celery worker starts in {started_s:.2f} s"
    )


if __name__ == "__main__":
    main()
