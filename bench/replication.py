"""Ratios of the replication arithmetic: ``python -m bench.replication``. Asserts nothing.

Each is compared with the plain version in ``tests/core/replication/plain.py`` on a part of the rows (the plain
time is scaled up) and with copying the data touched once. Machines are noisy, so trust the ratios.
"""

from __future__ import annotations

import resource
import time

import numpy as np
from tests.core.replication.plain import plain_backlog, plain_kept, plain_scores
from tests.core.replication.series import labelled, quality

from bench.core import best
from maestoso.core.model.protection import Policy
from maestoso.core.replication.anomaly import scores
from maestoso.core.replication.retention import ladders, retained
from maestoso.core.replication.sharing import backlog, lags

WORKLOADS = 10_000
MINUTES = 1440
NOW = 1_794_495_600


def main() -> None:
    """Print a block per function, the quality of the anomalies, and the peak of memory."""
    random = np.random.default_rng(7)
    change = random.lognormal(10, 1, (WORKLOADS, MINUTES))
    sent, _ = backlog(change, np.ones(WORKLOADS), np.full(MINUTES, float(change.sum(axis=0).mean())))
    lags(change, sent, 60.0)
    del sent
    scores(change, 60)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20
    print(f"\n{WORKLOADS} workloads x {MINUTES} minutes: peak memory {peak:.2f} GiB")
    copying, _ = best(change.copy)
    sharing(change, copying)
    thinning(random)
    unusual(change, copying)
    for seed in (1, 2, 3):
        rates, burst = labelled(1000, 5, 6, seed)
        precision, recall = quality(scores(rates, 6, 144), burst, 144)
        print(f"  labelled series, seed {seed}: precision {precision:.3f}, recall {recall:.3f}")


def once(work: object) -> float:
    """Seconds of one call."""
    begin = time.perf_counter()
    work()  # type: ignore[operator]
    return time.perf_counter() - begin


def line(what: str, quick: float, plain: float, copying: float) -> None:
    """One result."""
    ratios = f"{plain / quick:6.0f} x the plain one, {quick / copying:5.1f} copies"
    print(f"  {what:34} {quick * 1e3:9.1f} ms, {ratios}")


def sharing(change: np.ndarray, copying: float) -> None:
    """A day of minutes on one link that is full half of the time."""
    weight = np.random.default_rng(8).integers(1, 4, WORKLOADS).astype(float)
    capacity = np.full(MINUTES, float(change.sum(axis=0).mean()))
    quick, (sent, _) = best(lambda: backlog(change, weight, capacity))
    part = change[:100]
    plain = once(lambda: plain_backlog(part, weight[:100], capacity / 100)) * WORKLOADS / 100
    line("link sharing and backlog", quick, plain, copying)
    measured, _ = best(lambda: lags(change, sent, 60.0))
    print(f"  {'lag from positions':34} {measured * 1e3:9.1f} ms")


def thinning(random: np.random.Generator) -> None:
    """A million points of a thousand groups."""
    group = np.repeat(np.arange(1000), 1000)
    at = np.sort(random.integers(NOW - 16 * 86400, NOW, (1000, 1000)), axis=1).ravel()
    policy = Policy(interval_s=60, rpo_s=120)
    rules = ladders([policy] * 1000)
    quick, _ = best(lambda: retained(group, at, NOW, rules))
    moments = at[:100_000].tolist()
    plain = once(lambda: plain_kept(moments, NOW, policy)) * 10
    copying, _ = best(lambda: (group.copy(), at.copy()))
    line("retention of 1e6 points", quick, plain, copying)


def unusual(change: np.ndarray, copying: float) -> None:
    """A day of minutes against the hours before."""
    quick, _ = best(lambda: scores(change, 60))
    plain = once(lambda: plain_scores(change[:10], 360)) * WORKLOADS / 10
    line("anomaly scores", quick, plain, copying)


if __name__ == "__main__":
    main()
