"""Everything the rules may look at."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from maestoso.core.landing.resolve import Landing, resolve
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.model.estate import Inventory, Service, Workload
from maestoso.core.model.finding import Finding
from maestoso.core.model.plan import Member, Plan
from maestoso.core.model.protection import CopyState, Group, RecoveryPoint


@dataclass(frozen=True, slots=True, kw_only=True)
class LastTest:
    """The newest test of a plan that was judged."""

    ended_at: datetime
    version: int
    verdict: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Context:
    """A plan and the world around it at ``now``.

    ``workloads`` is the whole estate by name; ``newest`` the newest point per group, absent where a group
    has none; ``lost_sites`` are sites that do not answer, with the reason. ``copying`` says how the site
    that holds the copies of a group stands; ``keys_missing`` are groups whose key is not stored; ``drifted``
    counts what a site's agent says otherwise than the records, ``skew_s`` is how far its clock is ahead.
    """

    plan: Plan
    version: int
    now: datetime
    workloads: Mapping[str, Workload]
    target: Inventory
    crosswalk: Crosswalk | None
    groups: tuple[Group, ...]
    newest: Mapping[str, RecoveryPoint]
    lost_sites: Mapping[str, str] = field(default_factory=dict)
    last_test: LastTest | None = None
    copying: Mapping[str, CopyState] = field(default_factory=dict)
    keys_missing: frozenset[str] = frozenset()
    drifted: Mapping[str, int] = field(default_factory=dict)
    skew_s: Mapping[str, float] = field(default_factory=dict)

    def group_of(self, workload: str) -> Group | None:
        """The group that copies ``workload`` in the direction of the plan."""
        return next(
            (
                group
                for group in self.groups
                if workload in group.members
                and (group.source, group.target) == (self.plan.source, self.plan.target)
            ),
            None,
        )

    def known_members(self) -> list[tuple[int, Member, Workload]]:
        """Members whose workload is in the estate, with their wave."""
        return [
            (wave, member, self.workloads[member.workload])
            for wave, member in self.plan.members()
            if member.workload in self.workloads
        ]

    def provider_of(self, service: str) -> tuple[Workload, Service] | None:
        """Who offers a service, anywhere in the estate."""
        for workload in self.workloads.values():
            for offered in workload.offers:
                if offered.name == service:
                    return workload, offered
        return None


def test_landings(ctx: Context) -> tuple[tuple[Landing, ...], tuple[Finding, ...]]:
    """The landings of all members in a test, with what is wrong with each."""
    if ctx.crosswalk is None:
        return (), ()
    landings: list[Landing] = []
    findings: list[Finding] = []
    for _, _, workload in ctx.known_members():
        landing, noticed = resolve(workload, ctx.crosswalk, ctx.target, "test")
        landings.append(landing)
        findings += noticed
    return tuple(landings), tuple(findings)
