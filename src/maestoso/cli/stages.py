"""Set-up in stages: what is done, for how long already, about how much is left; long output goes to a log.

Only the standard library, and nothing that needs it installed: the launcher uses this before there is a
virtual environment.
"""

from __future__ import annotations

import contextlib
import json
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TextIO

ROOT = Path(__file__).resolve().parents[3]
TAKEN = ROOT / "var" / "log" / "stages.json"
SAID_EVERY_S = 10.0
LAST_LINES = 12
GUESSES = {
    "Debian packages for Python": 10.0,
    "Debian packages": 40.0,
    "Virtual environment": 8.0,
    "Python packages": 45.0,
    "Python packages for tests": 40.0,
    "Front-end packages": 15.0,
    "Front-end packages for tests": 20.0,
    "Front end": 5.0,
    "Database": 4.0,
    "Tables and demo data": 10.0,
    "Tables": 6.0,
}
"""Seconds on a quiet machine with two cores, until this one has been measured."""


class StageFailed(Exception):
    """A stage did not come to its end; the text says why and where to look."""


class Progress:
    """What is being done now. A terminal has one line that is kept up to date, a file a line now and then.

    ``clock`` gives seconds; ``taken`` is where the durations of earlier times are kept.
    """

    def __init__(
        self, out: TextIO | None = None, clock: Callable[[], float] = time.monotonic, taken: Path = TAKEN
    ) -> None:
        self._out = out
        self._clock = clock
        self._taken = taken
        self._since: dict[str, float] = {}
        self._said_at = 0.0
        self._lock = threading.Lock()
        self._end = threading.Event()
        # How much slower than expected this start has been so far: one slow stage says much about the next.
        self._expected = self._spent = 0.0
        self._usual = GUESSES | self._remembered()

    @property
    def out(self) -> TextIO:
        """Where it is said; looked up late, because tests put another stream in its place."""
        return self._out or sys.stdout

    @contextlib.contextmanager
    def stage(self, title: str) -> Iterator[None]:
        """Do something that has a name. Stages may overlap."""
        with self._lock:
            alone = not self._since
            self._since[title] = self._said_at = self._clock()
            self._line(f"  {title} ... {self._left(title)}".rstrip())
        if alone:
            self._end = threading.Event()
            threading.Thread(target=self._tick, args=(self._end,), daemon=True).start()
        try:
            yield
        except BaseException:
            self._close(title, "stopped after")
            raise
        self._close(title, "done in")
        self._remember(title)

    def _close(self, title: str, how: str) -> None:
        with self._lock:
            took = self._clock() - self._since.pop(title)
            if title in self._usual:
                self._expected, self._spent = self._expected + self._usual[title], self._spent + took
            self._usual[title] = took
            self._line(f"  {title}: {how} {seconds(took)}.")
            if not self._since:
                self._end.set()

    def _remembered(self) -> dict[str, float]:
        """How long stages took before; nothing where that cannot be read."""
        try:
            return {title: float(took) for title, took in json.loads(self._taken.read_text("utf-8")).items()}
        except (OSError, ValueError, TypeError, AttributeError):
            return {}

    def _remember(self, title: str) -> None:
        with contextlib.suppress(OSError):
            kept = self._remembered() | {title: round(self._usual[title], 1)}
            self._taken.parent.mkdir(parents=True, exist_ok=True)
            self._taken.write_text(json.dumps(kept, indent=1), encoding="utf-8")

    def _left(self, title: str) -> str:
        usual = self._usual.get(title)
        if usual is None:
            return ""
        pace = max(self._spent / self._expected, 0.2) if self._expected > 1 else 1.0
        left = usual * pace - (self._clock() - self._since[title])
        return f"about {seconds(left)} left" if left >= 1 else "longer than usual" if left < -5 else ""

    def now(self) -> str:
        """What is being done, for how long, and about how much is left."""
        said = []
        for title, since in self._since.items():
            left = self._left(title)
            said.append(f"{title}, {seconds(self._clock() - since)}" + (f", {left}" if left else ""))
        return "; ".join(said)

    def _tick(self, end: threading.Event) -> None:
        while not end.wait(1.0):
            with self._lock:
                if not self._since:
                    return
                if self.out.isatty():
                    self.out.write(f"\r\x1b[2K  … {self.now()}")
                    self.out.flush()
                elif self._clock() - self._said_at >= SAID_EVERY_S:
                    self._said_at = self._clock()
                    self._line(f"  … {self.now()}")

    def _line(self, text: str) -> None:
        self.out.write(f"\r\x1b[2K{text}\n" if self.out.isatty() else f"{text}\n")
        self.out.flush()


PROGRESS = Progress()
stage = PROGRESS.stage


def seconds(value: float) -> str:
    """A duration as people say it: ``8 s``, ``1 min 20 s``."""
    whole = max(round(value), 0)
    return f"{whole} s" if whole < 60 else f"{whole // 60} min {whole % 60} s"


def run(command: Sequence[str], log: Path, *, cwd: Path = ROOT, env: dict[str, str] | None = None) -> None:
    """Run a command with its output in ``log``. Raises StageFailed with the last lines."""
    log.parent.mkdir(parents=True, exist_ok=True)
    with log.open("ab") as file:
        begin = file.tell()
        done = subprocess.run(command, stdout=file, stderr=file, cwd=cwd, env=env, check=False)
    if done.returncode:
        raise StageFailed(
            f"{Path(command[0]).name} failed:\n{last_lines(log, begin)}\n  All of it is in {log}."
        )


def last_lines(log: Path, begin: int = 0) -> str:
    """The end of a log, indented, from byte ``begin`` on."""
    try:
        with log.open("rb") as file:
            file.seek(max(begin, file.seek(0, 2) - 20_000))
            said = file.read().decode(errors="replace").strip().splitlines()[-LAST_LINES:]
    except OSError as error:
        said = [f"({error})"]
    return "\n".join(f"    {line}" for line in said)


def together(*tasks: Callable[[], object]) -> None:
    """Do several things at once; raises what the first of them that failed raised, when all have ended."""
    with ThreadPoolExecutor(len(tasks)) as pool:
        for future in [pool.submit(task) for task in tasks]:
            future.result()
