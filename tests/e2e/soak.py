"""The long crash harness: ``./maestoso soak --minutes 30 --seed 7``.

Runs of every kind, one after the other, while processes die or stand still by chance; after each, every
promise of every run is checked. The seed decides what is tried; the report says what happened and ends with a verdict.
"""

from __future__ import annotations

import argparse
import sys
import time

from maestoso.engine.clock import SystemClock
from tests.e2e.harness import REPORTS, harnessed

PLANS = ("HARB", "BOOK")
PLACES = (
    "before-commit",
    "after-commit",
    "before-send",
    "on-answer",
    "before-write",
    "after-write",
    "before-reply",
)
VERBS = (
    "sync", "shut-down", "fence", "promote", "register", "set-size", "attach-nics", "set-addresses", "power-on",
    "await-heartbeat", "probe-service", "clone-point", "make-sandbox", "prove-isolation", "demote", "lift-fence",
    "unregister", "leak-check",
)  # fmt: skip


def main() -> int:
    """Soak for some minutes; the status is 0 when nothing was broken."""
    parser = argparse.ArgumentParser(prog="maestoso soak", description=__doc__)
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    REPORTS.mkdir(parents=True, exist_ok=True)
    report = REPORTS / f"soak-{given.seed}-{SystemClock().now():%Y%m%d-%H%M%S}.txt"
    with report.open("w", encoding="utf-8") as file:

        def say(line: str) -> None:
            print(line, flush=True)
            file.write(f"{line}\n")
            file.flush()

        say(f"seed {given.seed}, {given.minutes:g} minutes")
        verdict = _soak(given.minutes * 60, given.seed, say)
        say(verdict)
    print(f"Report: {report}")
    return 0 if verdict.startswith("Nothing") else 1


def _soak(seconds: float, seed: int, say) -> str:  # type: ignore[no-untyped-def]
    runs = points = 0
    end = time.monotonic() + seconds
    with harnessed(seed, say) as harness:
        chance = harness.chance
        while time.monotonic() < end:
            armed = [f"{chance.choice(PLACES)} {chance.choice(VERBS)}:" for _ in range(6)]
            harness.arm(*armed)
            kind = chance.choice(("planned", "planned", "disaster", "test"))
            try:
                harness.run(
                    chance.choice(PLANS), kind, kill_every_s=chance.choice((0.0, 2.0, 5.0)),
                    go_on=kind == "disaster",
                )  # fmt: skip
                harness.check()
            except AssertionError as error:
                return f"Broken after {runs} runs: {error}"
            runs, points = runs + 1, points + len(armed) - len(harness.left())
        return (
            f"Nothing was broken in {runs} runs, with {points} crashes at named points "
            f"and {harness.killed} by chance."
        )


if __name__ == "__main__":
    sys.exit(main())
