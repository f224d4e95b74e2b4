"""A plan turned round: for the way home, when everything it is about runs at its target."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from maestoso.core.model.plan import Plan
from maestoso.core.model.protection import Group


def is_away(plan: Plan, groups: Iterable[Group]) -> bool:
    """Whether all that is copied of a plan's members is copied, or to be copied, from its target home."""
    members = set(plan.workloads())
    ways = {(g.source, g.target) for g in groups if members.intersection(g.members)}
    return (plan.target, plan.source) in ways and (plan.source, plan.target) not in ways


def turned(plan: Plan, sizes: Mapping[str, tuple[int, int]]) -> Plan:
    """The same order in the other direction.

    ``sizes`` are cores and memory in MiB that workloads had at home; what the plan says of sizes is about
    the way out. Cues stay: they are about what comes up, not about where.
    """
    waves = tuple(
        replace(
            wave,
            members=tuple(
                replace(
                    member,
                    cores=sizes[member.workload][0] if member.workload in sizes else None,
                    memory_mib=sizes[member.workload][1] if member.workload in sizes else None,
                )
                for member in wave.members
            ),
        )
        for wave in plan.waves
    )
    return replace(plan, source=plan.target, target=plan.source, waves=waves)
