"""``./maestoso test``: everything that must hold, three things at a time, what fails fastest first."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import threading
import time
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

from maestoso.cli import front_end
from maestoso.cli.arguments import PARTS
from maestoso.cli.stages import seconds
from maestoso.real_lab import ready
from maestoso.server.config.options import ROOT, SETTINGS

BIN = Path(sys.executable).parent
LOG = ROOT / "var" / "log" / "test.log"
TIMES = ROOT / "var" / "log" / "test-times.jsonl"
FIRST_TREE, TREES = "MAESTOSO_TEST_FIRST_TREE", "MAESTOSO_TEST_TREES"
WALKS_OF_A_TREE = 64
MEASURED = ROOT / "tests" / "measured.json"
LONG = "long_*.py"
"""Files with tests that ``soak --once`` runs, and ``test`` only by their names."""
MOST_SLOW = 15
MOST_SAID_LINES = 8
"""Of each test that failed, said once more at the end."""
WORKERS = 3
"""One more than the cores that are asked for: many a test waits for something."""
FRONT_END, WORLD, KERNEL = "front end", "prepared world", "kernel of the guests"
"""What is made once before those jobs begin that need it."""
FOLDERS = {
    "web": ("web",),
    "core": ("cli", "core", "practice", "sites", "names", "agent_kit", "agents", "engine"),
    "server": ("server",),
    "e2e": ("e2e",),
    "guests": ("guests",),
}
"""Folders under ``tests`` of each part that is tests."""
ALONE = ("e2e", "guests")
"""Parts whose modules are jobs of their own, each with an application or machines."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """A command whose output belongs together. ``tests``: it counts them itself; else it is one check."""

    part: str
    name: str
    command: Sequence[str]
    tests: bool = False
    cwd: Path = ROOT
    needs: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What came of a job; ``known``: tests that failed as it is expected of them."""

    passed: int = 0
    failed: int = 0
    known: int = 0


@dataclass(slots=True)
class Tally:
    """What has come out so far."""

    passed: int = 0
    failed: int = 0
    known: int = 0
    took: dict[str, float] = field(default_factory=dict)
    why: list[str] = field(default_factory=list)


def test(only: list[str], *, verbose: bool = False, serial: bool = False) -> int:
    """Run what is named, parts or tests, or all of it; the last line says how many passed and failed."""
    why = ready.why_not() if not only or "guests" in only else ""
    if why and only:
        print(f"There are no tests with real machines here. {why}", file=sys.stderr)
        return 2
    try:
        jobs = list(
            _jobs(only or [part for part in PARTS if not why or part != "guests"], ["-v"] if verbose else [])
        )
    except ValueError as error:
        print(error, file=sys.stderr)
        return 2
    TIMES.parent.mkdir(parents=True, exist_ok=True)
    TIMES.write_text("", encoding="utf-8")
    began = time.monotonic()
    tally = Queue(jobs, workers=1 if serial else WORKERS).run()
    print("\n".join(["", *_where_time_went(tally.took, time.monotonic() - began)]))
    if tally.why:
        print("\n".join(["\nWhat failed:", *tally.why]))
    if tally.known:
        print(f"\n{tally.known} more failed as expected, each for a known fault.")
    if why:
        print(f"\nWithout the tests with real machines. {why}")
    print(f"\n{tally.passed} passed, {tally.failed} failed")
    return 1 if tally.failed else 0


def soak(
    minutes: float,
    seed: int,
    *,
    once: bool,
    walks: int = 0,
    schedules: int = 0,
    guests: int = 0,
    standby: int = 0,
    cluster: int = 0,
) -> int:
    """The long crash harness, whose report is under ``var/soak``, and ``once`` the long tests.

    Or so many ``walks`` or ``schedules``, or so many stories of real machines (``guests``), of takeovers
    (``standby``) or of a cluster's nodes.
    """
    if schedules:
        command = [sys.executable, "-m", "tests.engine.schedules", "--count", str(schedules)]
        return subprocess.run([*command, "--seed", str(seed)], cwd=ROOT, check=False).returncode
    if walks:
        os.environ |= {FIRST_TREE: str(seed * 1000), TREES: str(-(-walks // WALKS_OF_A_TREE))}
        return test(["tests.server.test_walks"], verbose=False, serial=False)
    stories = {"tests.guests.soak": guests, "tests.e2e.takeovers": standby, "tests.e2e.nodes": cluster}
    for module, seeds in stories.items():
        if seeds:
            command = [sys.executable, "-m", module, "--seeds", str(seeds), "--seed", str(seed)]
            return subprocess.run(command, cwd=ROOT, check=False).returncode
    command = [sys.executable, "-m", "tests.e2e.soak", "--minutes", str(minutes), "--seed", str(seed)]
    if not once:
        return subprocess.run(command, cwd=ROOT, check=False).returncode
    ended = subprocess.run([*command, "--once"], cwd=ROOT, check=False).returncode
    return test(_long()) or ended


# --- what there is to do ---


def _jobs(only: Iterable[str], more: list[str]) -> list[Job]:
    """The jobs of what is named, in the order in which they are begun. Raises ValueError with a sentence."""
    found: dict[str, list[Job]] = {part: [] for part in PARTS}
    for name in only:
        if name in PARTS:
            found[name] += _of_part(name, more)
        elif (part := _part_of(name)) is not None:
            found[part].append(_tests(part, name, [name], more))
        else:
            raise ValueError(
                f"There is no {name!r}. Name parts ({', '.join(PARTS)}), or modules, classes or tests,"
                " such as tests.core.runs.test_runs.Deciding."
            )
    jobs = [job for part in PARTS if part not in ALONE for job in found[part]]
    # The longest first, of both: one of these that begins last keeps everybody waiting for it.
    jobs += sorted((job for part in ALONE for job in found[part]), key=lambda job: -_usual_s(job.name))
    needed = {need for job in jobs for need in job.needs}
    return [job for job in _set_up() if job.name in needed] + jobs


def _set_up() -> list[Job]:
    return [
        Job(part="set-up", name=FRONT_END, command=[sys.executable, "-m", "maestoso.cli.front_end"]),
        Job(part="set-up", name=WORLD, command=[sys.executable, "-m", "tests.prepared"]),
        Job(part="set-up", name=KERNEL, command=[sys.executable, "-m", "maestoso.real_lab.ready"]),
    ]


def _part_of(label: str) -> str | None:
    """The part that a dotted name of tests belongs to."""
    words = label.split(".")
    there = words[0] == "tests" and len(words) > 1
    return next((part for part, folders in FOLDERS.items() if there and words[1] in folders), None)


def _of_part(part: str, more: list[str]) -> list[Job]:
    npm = str(BIN / "npm")
    if part == "lint":
        return [
            Job(part=part, name="ruff check", command=[str(BIN / "ruff"), "check", "."]),
            Job(part=part, name="ruff format", command=[str(BIN / "ruff"), "format", "--check", "."]),
            Job(part=part, name="import contracts", command=[str(BIN / "lint-imports")]),
            # As a module: it finds the settings of the tests.
            Job(part=part, name="mypy (strict)", command=[sys.executable, "-m", "mypy"]),
        ]
    if part == "web":
        checks = [
            Job(
                part=part,
                name=name,
                command=[npm, "run", script],
                cwd=front_end.WEB,
                needs=frozenset({FRONT_END}),
            )
            for name, script in (
                ("types of the API are those of docs/openapi.json", "types:check"),
                ("eslint", "lint"),
                ("vue-tsc", "typecheck"),
            )
        ]
        return [*checks, _tests(part, "tests/web", _modules(part), more)]
    modules = _modules(part)
    if part in ALONE:
        return [_tests(part, name, [name], more) for name in modules]
    groups = _spread(modules)
    return [
        _tests(part, f"{part} {number} of {WORKERS}", group, more) for number, group in enumerate(groups, 1)
    ]


def _modules(part: str, named: str = "test_*.py") -> list[str]:
    """The modules of tests of a part, the longest first."""
    found = [
        ".".join(file.relative_to(ROOT).with_suffix("").parts)
        for folder in FOLDERS[part]
        for file in (ROOT / "tests" / folder).rglob(named)
    ]
    return sorted(found, key=lambda name: (-_usual_s(name), name))


def _long() -> list[str]:
    """The modules that take so long that only a soak runs them; of real machines, where those can run."""
    parts = [part for part in FOLDERS if part != "guests" or not ready.why_not()]
    return [name for part in parts for name in _modules(part, LONG)]


def _usual_s(module: str) -> float:
    """How long its tests took when that was measured; what never was may be long."""
    return _measured().get(module, 1e9)


@cache
def _measured() -> dict[str, float]:
    found: dict[str, float] = json.loads(MEASURED.read_text(encoding="utf-8"))
    return found


def _spread(modules: list[str]) -> list[list[str]]:
    """Groups of about the same time each."""
    groups: list[list[str]] = [[] for _ in range(WORKERS)]
    loads = [0.0] * WORKERS
    for name in modules:
        least = loads.index(min(loads))
        groups[least].append(name)
        loads[least] += _measured().get(name, 1.0)
    return [group for group in groups if group]


def _tests(part: str, name: str, labels: list[str], more: list[str]) -> Job:
    runner = "tests.server" if part == "server" else "tests.timing"
    needs: dict[str, set[str]] = {"server": {WORLD}, "e2e": {WORLD, FRONT_END}, "web": {FRONT_END}}
    needs["guests"] = {WORLD, FRONT_END, KERNEL}
    command = [sys.executable, "-m", runner, *labels, *more]
    if part == "guests":
        # In a network namespace of their own: a browser gives requests up when devices of its own change.
        # And before others: a machine that gets too little time spends it all on its clock, and never boots.
        command = ["nice", "-n", "-10", "unshare", "--net", *command]
    return Job(part=part, name=name, command=command, tests=True, needs=frozenset(needs.get(part, ())))


# --- doing it ---


class Queue:
    """Workers that take the first job whose needs are met; what one printed is shown whole when it ends."""

    def __init__(self, jobs: list[Job], workers: int) -> None:
        self.waiting = list(jobs)
        self.workers = workers
        self.made: set[str] = set()
        self.missing: set[str] = set()
        self.tally = Tally()
        self._turn = threading.Condition()

    def run(self) -> Tally:
        """Do all of it."""
        workers = [
            threading.Thread(target=self._work, args=(number,), daemon=True) for number in range(self.workers)
        ]
        for worker in workers:
            worker.start()
        for worker in workers:
            worker.join()
        return self.tally

    def _work(self, worker: int) -> None:
        while (job := self._next()) is not None:
            began = time.monotonic()
            outcome, said = self._do(job, worker)
            self._done(job, outcome, said, time.monotonic() - began)

    def _next(self) -> Job | None:
        with self._turn:
            while self.waiting:
                for job in self.waiting:
                    if job.needs & self.missing:
                        self.waiting.remove(job)
                        why = f"Not run: there is no {min(job.needs & self.missing)}.\n"
                        if self.workers == 1:
                            print(f"\n== {job.part}: {job.name}\n{why}", end="", flush=True)
                        self._note(job, Outcome(failed=1), why, 0.0)
                        break
                    if job.needs <= self.made:
                        self.waiting.remove(job)
                        return job
                else:
                    self._turn.wait()
            return None

    def _do(self, job: Job, worker: int) -> tuple[Outcome, str]:
        """What came of it, and what was printed that nobody has seen yet."""
        own = {"MAESTOSO_TEST_TIMES": str(TIMES), "MAESTOSO_TEST_WORKER": str(os.getpid() * WORKERS + worker)}
        # Of this machine's own installation nothing is read.
        environment = {**front_end.environment(), SETTINGS: "", **own}
        alone = self.workers == 1
        if alone:
            print(f"\n== {job.part}: {job.name}", flush=True)
        said = []
        with subprocess.Popen(
            job.command, cwd=job.cwd, env=environment, stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace",
        ) as process:  # fmt: skip
            for line in process.stdout or ():
                said.append(line)
                if alone:
                    print(line, end="", flush=True)
        status = process.returncode
        text = "".join(said)
        if job.tests:
            outcome = counted(text, status)
        else:
            outcome = Outcome(passed=int(status == 0), failed=int(status != 0))
        return outcome, "" if alone else text

    def _done(self, job: Job, outcome: Outcome, said: str, took: float) -> None:
        with self._turn:
            (self.missing if outcome.failed else self.made).add(job.name)
            self._note(job, outcome, said, took)
            self._turn.notify_all()

    def _note(self, job: Job, outcome: Outcome, said: str, took: float) -> None:
        tally = self.tally
        # Set-up is no test, but nothing passes without it.
        tally.passed += 0 if job.part == "set-up" else outcome.passed
        tally.failed += outcome.failed
        tally.known += outcome.known
        if outcome.failed:
            tally.why += (reasons(said) if job.tests else []) or [f"  {job.part}: {job.name}"]
        tally.took[job.part] = tally.took.get(job.part, 0.0) + took
        if job.tests:
            came_out = f"{outcome.passed} passed, {outcome.failed} failed"
        else:
            came_out = "FAILED" if outcome.failed else "ok"
        if self.workers > 1:
            shown = said if job.tests or outcome.failed else ""
            print(f"\n== {job.part}: {job.name}: {came_out} ({seconds(took)})\n{shown}", end="", flush=True)
        else:
            print(f"-- {came_out} ({seconds(took)})", flush=True)


def counted(said: str, status: int) -> Outcome:
    """How many tests passed and failed by the last lines of unittest; none at all is a failure."""
    text = said[-5000:]
    ran = int(match.group(1)) if (match := re.search(r"^Ran (\d+) tests?", text, re.M)) else 0
    found = {"failures": 0, "errors": 0, "unexpected successes": 0, "expected failures": 0}
    for name, number in re.findall(rf"\b({'|'.join(sorted(found, key=len, reverse=True))})=(\d+)", text):
        found[name] += int(number)
    known = found.pop("expected failures")
    failed = sum(found.values())
    if status != 0 or ran == 0:
        failed = max(failed, 1)
    return Outcome(passed=max(ran - failed - known, 0), failed=failed, known=known)


def reasons(said: str) -> list[str]:
    """Each test that failed, with the beginning of its last error, which says most of a chain."""
    found = []
    blocks = re.split(r"^={70}\n((?:FAIL|ERROR): .+)\n-{70}\n", said, flags=re.M)
    for title, text in zip(blocks[1::2], blocks[2::2], strict=True):
        lines = text.split("\n" + "-" * 70)[0].rstrip().splitlines()
        errors = [number for number, line in enumerate(lines) if re.match(r"[\w.]*(Error|Exception)\b", line)]
        begin = errors[-1] if errors else max(len(lines) - MOST_SAID_LINES, 0)
        found += [f"  {title}", *(f"    {line[:300]}" for line in lines[begin:][:MOST_SAID_LINES])]
    return found


# --- where the time went ---


def _where_time_went(took: dict[str, float], whole: float) -> list[str]:
    """Time per part, and the slowest classes and tests; all of them are in ``TIMES``."""
    lines = [json.loads(line) for line in TIMES.read_text(encoding="utf-8").splitlines()]
    classes: dict[str, float] = {}
    tests: dict[str, float] = {}
    for line in lines:
        classes[line["class"]] = classes.get(line["class"], 0.0) + line["took_s"] + line["set_up_s"]
        tests[f"{line['class']}.{line['test']}"] = line["took_s"]
    parts = ", ".join(f"{name} {seconds(value)}" for name, value in took.items())
    said = [f"It took {seconds(whole)}. Time of the workers went: {parts}."]
    for what, found in (("classes, with what they set up", classes), ("tests", tests)):
        slowest = sorted(found.items(), key=lambda pair: -pair[1])[:MOST_SLOW]
        if slowest:
            said += [f"Slowest {what}:", *(f"  {value:6.1f} s  {name}" for name, value in slowest)]
    return [*said, f"All of them are in {TIMES}."] if lines else said
