"""Expected durations of steps: measured where there are runs, else by kind and size."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import lru_cache

from maestoso.core.model.estate import Workload
from maestoso.core.planning.graph import Step
from maestoso.core.planning.inputs import Estimate

USUAL_S: Mapping[str, float] = {
    "sync": 40.0,
    "make-sandbox": 12.0,
    "prove-isolation": 15.0,
    "read-adapters": 3.0,
    "clone-point": 9.0,
    "register": 5.0,
    "set-size": 2.0,
    "attach-nics": 4.0,
    "set-addresses": 6.0,
    "power-on": 8.0,
    "await-heartbeat": 90.0,
    "probe-service": 12.0,
    "run-script": 15.0,
    "probe": 5.0,
    "name-copies": 2.0,
    "publish-names": 2.0,
    "put-names-back": 2.0,
    "publish-address": 3.0,
    "withdraw-address": 2.0,
    "power-off": 6.0,
    "unregister": 3.0,
    "discard-clone": 5.0,
    "remove-sandbox": 6.0,
    "leak-check": 10.0,
    "ask-site": 1.0,
    "shut-down": 40.0,
    "fence": 5.0,
    "lift-fence": 4.0,
    "promote": 15.0,
    "demote": 10.0,
    "wake-host": 150.0,
    "reverse-copying": 300.0,
}
"""Median machine seconds of each verb when nothing was ever measured; a guess, replaced by measurement."""

USUAL_SIGMA = 0.3
ENOUGH_SAMPLES = 3


NOTHING = Estimate(median_s=0.0)


def usual(step: Step, workload: Workload | None) -> Estimate:
    """The estimate for a step that was never measured. Boots take longer with more memory."""
    if step.site is None:
        return NOTHING
    if step.verb == "await-heartbeat" and workload is not None:
        return _of_verb(step.verb, 1.0 + workload.memory_mib / 1024 / 64)
    return _of_verb(step.verb, 1.0)


@lru_cache(maxsize=1024)
def _of_verb(verb: str, times: float) -> Estimate:
    return Estimate(median_s=USUAL_S.get(verb, 10.0) * times, sigma=USUAL_SIGMA)


def from_samples(samples: Sequence[float], fallback: Estimate) -> Estimate:
    """Lognormal fit by median and spread of logarithms, leaning on ``fallback`` while samples are few.

    The fallback counts as one sample for the median; sigma is never taken below 0.05.
    """
    logs = sorted(math.log(max(sample, 0.1)) for sample in samples)
    if not logs:
        return fallback
    weight = len(logs) / (len(logs) + 1)
    middle = logs[len(logs) // 2] if len(logs) % 2 else (logs[len(logs) // 2 - 1] + logs[len(logs) // 2]) / 2
    mean = sum(logs) / len(logs)
    spread = math.sqrt(sum((value - mean) ** 2 for value in logs) / max(len(logs) - 1, 1))
    sigma = spread if len(logs) >= ENOUGH_SAMPLES else fallback.sigma
    median = math.exp(weight * middle + (1 - weight) * math.log(max(fallback.median_s, 0.1)))
    return Estimate(median_s=median, sigma=max(sigma, 0.05))


def estimates(
    steps: Sequence[Step], workloads: Mapping[str, Workload], measured: Mapping[str, Sequence[float]]
) -> dict[str, Estimate]:
    """One estimate per step id. ``measured`` holds machine seconds of earlier steps of the same id."""
    found = {}
    for step in steps:
        expected = usual(step, workloads.get(step.workload or ""))
        samples = measured.get(step.id, ()) if step.site else ()
        found[step.id] = from_samples(samples, expected) if samples else expected
    return found
