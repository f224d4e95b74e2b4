"""What a role is given for: everything, some sites, or some plans; and what lies within reach of that."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True, kw_only=True)
class Scope:
    """What one role of a person is given for: these sites, plans by code, and plans with one of these tags.

    None of all three is everything.
    """

    sites: tuple[str, ...] = ()
    plans: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()

    @property
    def is_everything(self) -> bool:
        """Whether it leaves nothing out."""
        return not (self.sites or self.plans or self.tags)

    def words(self) -> str:
        """As people say it: 'for the sites HIL and NOR, and plans tagged tier-1'; empty for everything."""
        parts = []
        if self.sites:
            parts.append(f"the site{'s' if len(self.sites) > 1 else ''} {_listed(self.sites)}")
        if self.plans:
            parts.append(f"the plan{'s' if len(self.plans) > 1 else ''} {_listed(self.plans)}")
        if self.tags:
            parts.append(f"plans tagged {_listed(self.tags)}")
        return f"for {', and '.join(parts)}" if parts else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanFacts:
    """A plan as scopes look at it; ``workloads`` are those of its parts as well."""

    code: str
    tags: tuple[str, ...]
    source: str
    target: str
    workloads: frozenset[str]
    parts: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupFacts:
    """A consistency group as scopes look at it."""

    code: str
    source: str
    target: str
    members: frozenset[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """The records as scopes look at them; ``workloads`` gives the site of each."""

    plans: tuple[PlanFacts, ...]
    groups: tuple[GroupFacts, ...]
    workloads: Mapping[str, str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Reach:
    """What somebody can get at. Where ``everything`` is true, the sets say nothing.

    ``own_sites`` are those that a role is given for, ``sites`` also those that plans in reach go between.
    """

    everything: bool = False
    plans: frozenset[str] = frozenset()
    groups: frozenset[str] = frozenset()
    workloads: frozenset[str] = frozenset()
    own_sites: frozenset[str] = frozenset()
    sites: frozenset[str] = frozenset()
    ways: frozenset[tuple[str, str]] = field(default_factory=frozenset)

    def has(self, kind: str, key: str) -> bool:
        """Whether a plan, group, workload or site is among it."""
        among = {"plan": self.plans, "group": self.groups, "workload": self.workloads, "site": self.sites}
        return self.everything or key in among[kind]

    def has_way(self, source: str, target: str) -> bool:
        """Whether what lies between two sites is: of a plan in reach, or of a site that is."""
        return (
            self.everything or (source, target) in self.ways or (target, source) in self.ways
            or source in self.own_sites or target in self.own_sites
        )  # fmt: skip

    def owns(self, *sites: str) -> bool:
        """Whether a role is given for one of these sites, and not only for plans that go there."""
        return self.everything or any(site in self.own_sites for site in sites)

    def has_run(self, plan: str, source: str, target: str) -> bool:
        """Whether a run is: its plan, which may be retired since, or one of its sites."""
        return self.everything or plan in self.plans or source in self.own_sites or target in self.own_sites


def within(one: Reach, other: Reach) -> Reach:
    """What lies within both."""
    if one.everything or other.everything:
        return other if one.everything else one
    return Reach(
        plans=one.plans & other.plans, groups=one.groups & other.groups,
        workloads=one.workloads & other.workloads, own_sites=one.own_sites & other.own_sites,
        sites=one.sites & other.sites, ways=one.ways & other.ways,
    )  # fmt: skip


def _listed(names: tuple[str, ...]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


NOTHING = Reach()
EVERYTHING = Reach(everything=True)


def reach_of(scopes: Iterable[Scope], facts: Facts) -> Reach:
    """All that lies within these scopes together.

    A site has the workloads that are there, and what goes from or to it: groups, plans, runs. A plan has its
    parts, its workloads, the groups that these are in, all their members, and the ways between its sites.
    """
    given = tuple(scopes)
    if any(scope.is_everything for scope in given):
        return EVERYTHING
    own_sites = frozenset(code for scope in given for code in scope.sites)
    codes = {code for scope in given for code in scope.plans}
    tags = {tag for scope in given for tag in scope.tags}
    known = {plan.code: plan for plan in facts.plans}
    wanted = [
        plan.code for plan in facts.plans
        if plan.code in codes or tags & set(plan.tags) or {plan.source, plan.target} & own_sites
    ]  # fmt: skip
    plans: dict[str, PlanFacts] = {}
    while wanted:
        code = wanted.pop()
        if code in known and code not in plans:
            plans[code] = known[code]
            wanted += known[code].parts
    workloads = {name for plan in plans.values() for name in plan.workloads}
    groups = [
        group for group in facts.groups
        if group.members & workloads or {group.source, group.target} & own_sites
    ]  # fmt: skip
    workloads |= {name for group in groups for name in group.members}
    workloads |= {name for name, site in facts.workloads.items() if site in own_sites}
    ways = {(plan.source, plan.target) for plan in plans.values()}
    ways |= {(group.source, group.target) for group in groups}
    return Reach(
        plans=frozenset(plans), groups=frozenset(group.code for group in groups),
        workloads=frozenset(workloads), own_sites=own_sites,
        sites=own_sites | {code for way in ways for code in way}, ways=frozenset(ways),
    )  # fmt: skip
