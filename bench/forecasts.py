"""Forecasts of the demo's plans against 200 runs in virtual time each: ``python -m bench.forecasts [code ...]``."""

from __future__ import annotations

import sys

from tests.practice.virtual_runs import foreseen, off, play

HISTORY, RUNS = 60, 200


def main() -> None:
    """Print a line per plan: how far p50, p80 and p95 are off."""
    for code in sys.argv[1:] or ["HARB", "BOOK", "FLEET", "ALL", "REPT"]:
        made = foreseen(code, play(code, 0, HISTORY).measured)
        shares = off(made, play(code, 1000, RUNS))
        said = ", ".join(f"{name} {share:+.1%}" for name, share in shares.items())
        print(
            f"{code:6} forecast {made.p50_s:6.0f} {made.p80_s:6.0f} {made.p95_s:6.0f} s, off by {said}",
            flush=True,
        )


if __name__ == "__main__":
    main()
