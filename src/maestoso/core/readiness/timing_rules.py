"""Rules that need to know how long steps take."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping

from maestoso.core.model.finding import Finding, warns
from maestoso.core.model.plan import Plan
from maestoso.core.planning.inputs import Estimate

P95 = 1.645
"""Normal quantile: one boot in twenty takes longer."""
ROOM = 1.5


def ready_timeout_short(plan: Plan, expected: Mapping[str, Estimate]) -> Iterator[Finding]:
    """A boot that is given less time than boots take fails without anything being wrong."""
    for _, member in plan.members():
        boot = expected.get(f"await-heartbeat:{member.workload}")
        if boot is None or not member.power_on:
            continue
        usual_s = boot.median_s * math.exp(P95 * boot.sigma)
        if member.ready_timeout_s < usual_s:
            enough_s = math.ceil(usual_s * ROOM / 60) * 60
            yield warns(
                "ready-timeout-short",
                member.workload,
                f"{member.workload} is given {member.ready_timeout_s} s to be ready; one boot in twenty "
                f"takes longer than {usual_s:.0f} s.",
                f"Give it {enough_s} s.",
                part=str(enough_s),
            )
