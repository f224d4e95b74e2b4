"""Runs conducted by 1, 2 and 4 engines: ``python -m bench.engines [rounds]``. Asserts nothing.

Sixteen runs of 500 steps that do nothing, at sites that have done everything the moment they are asked, on a
private MariaDB. All engines are up and look for runs before the first begins; medians and their ratios, and how
the runs were shared.
"""

from __future__ import annotations

import asyncio
import statistics
import subprocess
import sys
import time
from collections import Counter

from bench.engine import Instant, begun, graph_of, private_records

RUNS, STEPS, NUMBERS = 16, 500, (1, 2, 4)
POLL_S = 0.2


def main() -> None:
    """As the parent, print the figures; as ``engine NAME``, conduct until told to end."""
    if sys.argv[1:2] == ["engine"]:
        conduct(sys.argv[2])
        return
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    with private_records():
        took: dict[int, list[float]] = {number: [] for number in NUMBERS}
        shared: dict[int, str] = {}
        for _ in range(rounds):
            for number in NUMBERS:
                seconds, shared[number] = once(number)
                took[number].append(seconds)
    first = statistics.median(took[1])
    for number in NUMBERS:
        middle = statistics.median(took[number])
        print(
            f"  {number} engines, {RUNS} runs of {STEPS} steps {middle:6.2f} s, {first / middle:5.2f} times one;"
            f" shared {shared[number]}"
        )


def once(number: int) -> tuple[float, str]:
    """Seconds from when the first run begins to when the last has ended, and how many runs each engine had."""
    from maestoso.server.runs.models import Run

    engines = [
        subprocess.Popen([sys.executable, "-m", "bench.engines", "engine", f"e{n}"], stdout=subprocess.PIPE)
        for n in range(number)
    ]
    try:
        for engine in engines:
            assert engine.stdout is not None
            engine.stdout.readline()
        with graph_of(STEPS, chain=False):
            begins = [begun() for _ in range(RUNS)]
        pks = [pk for pk, _ in begins]
        began = time.perf_counter()
        for _, begin in begins:
            begin()
        owners: dict[int, str] = {}
        while going := Run.objects.filter(pk__in=pks, outcome="").values_list("pk", "owner"):
            owners |= {pk: owner for pk, owner in going if owner}
            time.sleep(0.01)
        seconds = time.perf_counter() - began
        counts = Counter(owners.values())
        return seconds, " ".join(str(count) for count in sorted(counts.values(), reverse=True))
    finally:
        for engine in engines:
            engine.terminate()
            engine.wait(20)


def conduct(name: str) -> None:
    """An engine of its own process."""
    import django

    django.setup()
    from maestoso.engine.conductor import Conductor
    from maestoso.engine.incarnation import incarnation
    from maestoso.server.runs.log import DatabaseRunLog

    with graph_of(STEPS, chain=False):
        conductor = Conductor(DatabaseRunLog(), lambda code: Instant(), incarnation(name), poll_s=POLL_S)
        print("up", flush=True)
        asyncio.run(conductor.conduct(asyncio.Event()))


if __name__ == "__main__":
    main()
