"""How long steps took at a site: what forecasts learn from runs that ended."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from django.db.models import Count, Max

from maestoso.server.runs.models import Run, RunStep

MOST_MEASURED = 50
"""Measured times of a step that count; older ones say little of how it is now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Measured:
    """What is known of the ended ``runs`` at a site."""

    mark: tuple[int, int | None]
    runs: set[int]
    samples: dict[str, tuple[float, ...]]


_measured: dict[str, _Measured] = {}
_measuring = threading.Lock()


def measured_mark(target: str) -> tuple[int, int | None]:
    """Tells one set of runs whose steps are written at a site from another."""
    ended = Run.objects.filter(target=target, steps_written=True)
    found = ended.aggregate(runs=Count("pk"), newest=Max("pk"))
    return found["runs"], found["newest"]


def measured(target: str) -> Mapping[str, Sequence[float]]:
    """Machine seconds of steps that were done at a site in runs that ended, by step id: the latest of each.

    What is known of runs is kept; only those that ended since are read.
    """
    mark = measured_mark(target)
    with _measuring:
        known = _measured.get(target)
        if known is None or known.mark != mark:
            ended = set(Run.objects.filter(target=target, steps_written=True).values_list("pk", flat=True))
            if known is None or known.runs - ended:
                known = _Measured(mark=mark, runs=set(), samples={})
            fresh = RunStep.objects.filter(run__in=ended - known.runs, status="done")
            # Another object each time: who has the one before goes on reading it.
            samples = dict(known.samples)
            for step, asked_s, settled_s in fresh.order_by("run").values_list("step", "asked_s", "settled_s"):
                if asked_s is not None and settled_s is not None:
                    samples[step] = (*samples.get(step, ())[1 - MOST_MEASURED :], settled_s - asked_s)
            _measured[target] = known = _Measured(mark=mark, runs=ended, samples=samples)
        return known.samples
