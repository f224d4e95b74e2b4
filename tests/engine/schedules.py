"""Random schedules in virtual time: ``./maestoso soak --schedules 1000000 --seed 7``.

Each is one way through the machines of :mod:`interleavings` and :mod:`outbox_interleavings`, with bounds that are too
large to visit every state of, and is drawn from the seed and its number: a piece can be done again by itself.
"""

from __future__ import annotations

import argparse
import os
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

from maestoso.engine.clock import SystemClock
from maestoso.server.config.options import ROOT
from tests.engine import interleavings as run
from tests.engine import outbox_interleavings as outbox
from tests.engine.exploring import Broken, wandered

PIECE = 1000
REPORTS = ROOT / "var" / "soak"


@dataclass(frozen=True)
class Piece:
    """Schedules from number ``first`` on."""

    seed: int
    first: int
    count: int


def play(piece: Piece) -> tuple[int, str]:
    """How many moves its schedules had, and what was broken first; empty where nothing was."""
    moves = 0
    with run.three_steps():
        one_run = run.OneRun(run.Bounds(claims=8, crashes=6, failures=3, aborts=1), run.Rules())
        for number in range(piece.first, piece.first + piece.count):
            seed = f"{piece.seed}-{number}"
            try:
                if number % 2:
                    moves += wandered(one_run, seed)
                else:
                    bounds = outbox.Bounds(crashes=4, failures=2, unheard=4, looks=3)
                    words = (outbox.FENCED_AND_BACK, outbox.TO_AND_FRO)[number // 2 % 2]
                    moves += wandered(outbox.OneSubject(words, bounds, outbox.Rules()), seed)
            except Broken as broken:
                return moves, f"Schedule {number} of seed {piece.seed}: {broken}"
    return moves, ""


def pieces(seed: int, count: int) -> Iterator[Piece]:
    """All of it in pieces that a process does at a time."""
    for first in range(0, count, PIECE):
        yield Piece(seed=seed, first=first, count=min(PIECE, count - first))


def main() -> int:
    """Play them on every core; the report says how many, from which seed, and what was broken."""
    parser = argparse.ArgumentParser(prog="maestoso soak", description=__doc__)
    parser.add_argument("--count", type=int, required=True)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    began, played, moves, wrong = time.monotonic(), 0, 0, ""
    work = list(pieces(given.seed, given.count))
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for piece, (made, broken) in zip(work, pool.map(play, work), strict=True):
            moves, played, wrong = moves + made, played + piece.count, wrong or broken
            if played % (100 * PIECE) == 0:
                print(f"{played} schedules", flush=True)
            if wrong:
                pool.shutdown(cancel_futures=True)
                break
    took = time.monotonic() - began
    said = f"{played} schedules of seed {given.seed} with {moves} moves in {took:.0f} s: {wrong or 'nothing was broken.'}"
    REPORTS.mkdir(parents=True, exist_ok=True)
    report = REPORTS / f"schedules-{given.seed}-{SystemClock().now():%Y%m%d-%H%M%S}.txt"
    report.write_text(f"{said}\n", encoding="utf-8")
    print(f"{said}\nReport: {report}")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
