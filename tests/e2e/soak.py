"""The long crash harness: ``./maestoso soak --minutes 30 --seed 7``, or ``--once`` for every scenario once.

Scenarios one after the other, while processes die or stand still; after each, every promise of every run is checked.
The seed decides what is tried; the report says what happened and ends with a verdict.
"""

from __future__ import annotations

import argparse
import itertools
import sys
import time
from collections.abc import Callable, Iterator

from maestoso.engine.clock import SystemClock
from tests.e2e.harness import REPORTS, Harness, harnessed
from tests.e2e.scenarios import LONG, SHORT, Scenario, play

ALL = {**SHORT, **LONG}


def main() -> int:
    """Soak for some minutes, or through every scenario; the status is 0 when nothing was broken."""
    parser = argparse.ArgumentParser(prog="maestoso soak", description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--once", action="store_true")
    given = parser.parse_args()
    REPORTS.mkdir(parents=True, exist_ok=True)
    report = REPORTS / f"soak-{given.seed}-{SystemClock().now():%Y%m%d-%H%M%S}.txt"
    with report.open("w", encoding="utf-8") as file:

        def say(line: str) -> None:
            print(line, flush=True)
            file.write(f"{line}\n")
            file.flush()

        say(f"seed {given.seed}, {'every scenario once' if given.once else f'{given.minutes:g} minutes'}")
        with harnessed(given.seed, say, lossy=True) as harness:
            verdict = _soak(harness, None if given.once else given.minutes * 60, say)
            for code, line in harness.lines.items():
                had = ", ".join(f"{count} {what}" for what, count in sorted(line.had.items()) if what)
                say(f"the line to {code}: {line.had['']} messages passed on, {had or 'none in trouble'}")
        say(verdict)
    print(f"Report: {report}")
    return 0 if verdict.startswith("Nothing") else 1


def _soak(harness: Harness, seconds: float | None, say: Callable[[str], None]) -> str:
    """Play for so many seconds, or every scenario once; returns the verdict."""
    end = None if seconds is None else time.monotonic() + seconds
    for played, (name, scenario) in enumerate(_drawn(harness, once=end is None)):
        if end is not None and time.monotonic() > end:
            break
        say(f"scenario {played + 1}: {name}")
        try:
            play(harness, scenario)
        except AssertionError as error:
            return f"Broken after {played} scenarios, in {name!r}: {error}"
    harness.arm()  # counts the last deaths
    return (
        f"Nothing was broken in {harness.runs} runs, with {harness.died} deaths at named points and"
        f" {harness.killed} by chance."
    )


def _drawn(harness: Harness, *, once: bool) -> Iterator[tuple[str, Scenario]]:
    """Every scenario once, in their order; or for ever, by chance."""
    everything = list(ALL.items())
    return iter(everything) if once else (harness.chance.choice(everything) for _ in itertools.count())


if __name__ == "__main__":
    sys.exit(main())
