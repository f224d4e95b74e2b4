"""How often the processes of the server look for cycles among their values."""

from __future__ import annotations

import gc

EVERY = 500_000


def look_for_cycles_seldom() -> None:
    """A plan of hundreds of workloads makes tens of thousands of small values that all stay for a while.

    Looking through them after every 700 new ones, as Python does by itself, takes a quarter of the time in
    which a plan is judged.
    """
    gc.set_threshold(EVERY, 20, 20)
