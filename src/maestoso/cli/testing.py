"""``./maestoso test``: everything that must hold, in the order in which it fails fastest."""

from __future__ import annotations

import contextlib
import json
import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

from maestoso.cli import database, front_end
from maestoso.cli.__main__ import PARTS
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes, free_ports
from maestoso.cli.stages import seconds
from maestoso.server.config.options import ROOT, Options

BIN = Path(sys.executable).parent
LOG = ROOT / "var" / "log" / "test.log"
TIMES = ROOT / "var" / "log" / "test-times.jsonl"
MOST_SLOW = 15


def test(only: list[str]) -> int:
    """Run the parts named, or all; the last line says how many tests passed and failed."""
    unknown = [name for name in only if name not in PARTS]
    if unknown:
        print(f"There is no part {unknown[0]!r}. Parts: {', '.join(PARTS)}.", file=sys.stderr)
        return 2
    parts: dict[str, Callable[[], tuple[int, int]]] = {
        "lint": _lint, "web": _web, "core": _core, "server": _server, "e2e": _e2e,
    }  # fmt: skip
    passed = failed = 0
    took: dict[str, float] = {}
    TIMES.parent.mkdir(parents=True, exist_ok=True)
    TIMES.write_text("", encoding="utf-8")
    os.environ["MAESTOSO_TEST_TIMES"] = str(TIMES)
    for name in only or PARTS:
        print(f"\n== {name}", flush=True)
        begin = time.monotonic()
        good, bad = parts[name]()
        took[name] = time.monotonic() - begin
        passed, failed = passed + good, failed + bad
    print("\n".join(["", *_where_time_went(took)]))
    print(f"\n{passed} passed, {failed} failed")
    return 1 if failed else 0


def _where_time_went(took: dict[str, float]) -> list[str]:
    """Time per part, and the slowest classes and tests; all of them are in ``TIMES``."""
    lines = [json.loads(line) for line in TIMES.read_text(encoding="utf-8").splitlines()]
    classes: dict[str, float] = {}
    tests: dict[str, float] = {}
    for line in lines:
        classes[line["class"]] = classes.get(line["class"], 0.0) + line["took_s"] + line["set_up_s"]
        tests[f"{line['class']}.{line['test']}"] = line["took_s"]
    said = ["Time went: " + ", ".join(f"{name} {seconds(value)}" for name, value in took.items()) + "."]
    for what, found in (("classes, with what they set up", classes), ("tests", tests)):
        slowest = sorted(found.items(), key=lambda pair: -pair[1])[:MOST_SLOW]
        if slowest:
            said += [f"Slowest {what}:", *(f"  {value:6.1f} s  {name}" for name, value in slowest)]
    return [*said, f"All of them are in {TIMES}."] if lines else said


def soak(minutes: float, seed: int) -> int:
    """The long crash harness; its report is under ``var/soak``."""
    command = [sys.executable, "-m", "tests.e2e.soak", "--minutes", str(minutes), "--seed", str(seed)]
    return subprocess.run(command, cwd=ROOT, check=False).returncode


def _commands(commands: list[tuple[str, list[str]]], cwd: Path = ROOT) -> tuple[int, int]:
    bad = 0
    for title, command in commands:
        done = subprocess.run(
            command, cwd=cwd, env=front_end.environment(), stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            text=True, check=False,
        )  # fmt: skip
        print(f"  {'ok    ' if done.returncode == 0 else 'FAILED'} {title}", flush=True)
        if done.returncode:
            print(done.stdout)
            bad += 1
    return len(commands) - bad, bad


def _lint() -> tuple[int, int]:
    return _commands(
        [
            ("ruff check", [str(BIN / "ruff"), "check", "."]),
            ("ruff format", [str(BIN / "ruff"), "format", "--check", "."]),
            ("mypy (core, practice, sites, engine: strict)", [str(BIN / "mypy")]),
            ("import contracts", [str(BIN / "lint-imports")]),
        ]
    )


def _web() -> tuple[int, int]:
    front_end.packages(LOG, tests=True)
    npm = str(BIN / "npm")
    checked = _commands(
        [
            ("types of the API are those of docs/openapi.json", [npm, "run", "types:check"]),
            ("vue-tsc", [npm, "run", "typecheck"]),
            ("eslint", [npm, "run", "lint"]),
        ],
        cwd=front_end.WEB,
    )
    front_end.build(LOG)
    return checked


def _unittest(command: list[str], env: dict[str, str]) -> tuple[int, int]:
    """Run a unittest command, passing its output on; returns how many passed and failed."""
    process = subprocess.Popen(
        command, cwd=ROOT, env=env, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
    )
    said = []
    for line in process.stdout or ():
        sys.stdout.write(line)
        sys.stdout.flush()
        said.append(line)
    text = "".join(said[-50:])
    ran = int(match.group(1)) if (match := re.search(r"^Ran (\d+) tests?", text, re.M)) else 0
    counts = [int(n) for n in re.findall(r"(?:failures|errors|unexpected successes)=(\d+)", text)]
    bad = sum(counts)
    if process.wait() != 0 or ran == 0:
        bad = max(bad, 1)
    return max(ran - bad, 0), bad


def _core() -> tuple[int, int]:
    """Tests that need no network, and no database but one of their own."""
    found = (0, 0)
    for part in ("cli", "core", "practice", "sites", "engine"):
        command = [sys.executable, "-m", "tests.timing", "discover", "-s", f"tests/{part}", "-t", "."]
        good, bad = _unittest(command, dict(os.environ))
        found = (found[0] + good, found[1] + bad)
    return found


@contextlib.contextmanager
def scratch() -> Iterator[Options]:
    """A directory and free ports that belong to this test run alone."""
    memory = Path("/dev/shm")
    parent = memory if os.access(memory, os.W_OK) else None
    var = Path(tempfile.mkdtemp(prefix="maestoso-test-", dir=parent))
    var.chmod(0o711)  # the database has a user of its own where root runs the tests
    try:
        yield free_ports(replace(Options(), var=var), sites=3)
    finally:
        database.remove(var)


def _server() -> tuple[int, int]:
    """Tests of the server on a MariaDB of their own."""
    with scratch() as options:
        secrets = make_secrets(options.var)
        processes = Processes(options, secrets, practice=False, scratch=True)
        database.initialise(options, secrets, LOG)
        processes.start_supervisor(everything=False)
        try:
            processes.wait_for_records()
            runner = ["--testrunner", "tests.timing.TimedRunner"]
            command = [
                sys.executable, "-m", "django", "test", "--no-input", *runner, "-t", ".", "tests/server",
            ]  # fmt: skip
            return _unittest(command, processes.environment())
        finally:
            processes.stop()


def _e2e() -> tuple[int, int]:
    """The whole application, killed and driven like a person would."""
    front_end.build(LOG)
    command = [sys.executable, "-m", "tests.timing", "discover", "-s", "tests/e2e", "-t", ".", "-v"]
    return _unittest(command, dict(os.environ))
