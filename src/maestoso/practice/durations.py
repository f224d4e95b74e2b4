"""How long a practice site takes: lognormal by kind of operation, seeded by the operation's key.

The draw depends on nothing but its key, so the order in which operations come in changes no duration, and a
retry draws anew.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from maestoso.core.model.estate import Workload
from maestoso.core.replication.change import chance

MEDIAN_S: Mapping[str, float] = {
    "sync": 35.0,
    "make-sandbox": 10.0,
    "remove-sandbox": 6.0,
    "prove-isolation": 14.0,
    "clone-point": 8.0,
    "discard-clone": 4.0,
    "register": 5.0,
    "unregister": 3.0,
    "set-size": 2.0,
    "attach-nics": 4.0,
    "set-addresses": 6.0,
    "power-on": 7.0,
    "power-off": 5.0,
    "read-adapters": 3.0,
    "probe-service": 11.0,
    "run-script": 9.0,
    "name-copies": 1.0,
    "publish-address": 2.0,
    "withdraw-address": 1.0,
    "probe": 4.0,
    "leak-check": 8.0,
    "ask-site": 1.0,
    "shut-down": 38.0,
    "fence": 4.0,
    "lift-fence": 3.0,
    "promote": 12.0,
    "demote": 10.0,
    "wake-host": 150.0,
    "adopt": 5.0,
    "give-up": 5.0,
    "let-points-go": 3.0,
    "changes-since": 6.0,
}
BOOT_MEDIAN_S: Mapping[str, float] = {"linux": 85.0, "bsd": 65.0, "appliance": 110.0}
SIGMA = 0.22
INSTANT_S = 0.2


def _lognormal(median_s: float, sigma: float, *parts: object) -> float:
    from scipy.special import ndtri  # loaded where it is used: it takes long

    return float(median_s * np.exp(sigma * ndtri(min(max(chance(*parts), 1e-9), 1 - 1e-9))))


def operation_s(seed: int, verb: str, key: str) -> float:
    """Machine seconds that an operation takes."""
    return _lognormal(MEDIAN_S.get(verb, INSTANT_S), SIGMA, seed, verb, key)


def boot_s(seed: int, workload: Workload, key: str) -> float:
    """Machine seconds from power to heartbeat: by OS family, memory, and the machine's own character."""
    median = BOOT_MEDIAN_S.get(workload.os_family, BOOT_MEDIAN_S["linux"]) * (
        1 + workload.memory_mib / 1024 / 64
    )
    character = _lognormal(1.0, 0.15, seed, "character", workload.name)
    return _lognormal(median * character, SIGMA / 2, seed, "boot", key)
