"""Everything the rules may look at."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property

from maestoso.core.answer_cache import AnswerCache
from maestoso.core.estate.row import Row
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.judge import Judged, judge_landings
from maestoso.core.landing.names import Known
from maestoso.core.model.crosswalk import SIDES, Crosswalk, Side
from maestoso.core.model.cue import Cue, CueKind
from maestoso.core.model.estate import Inventory, OddMachine, Service, Workload
from maestoso.core.model.plan import Member, Plan
from maestoso.core.model.protection import CopyState, Group, RecoveryPoint
from maestoso.core.people.roles import BY_CODE
from maestoso.core.planning.inputs import RunInputs, ScriptText
from maestoso.core.planning.parts import ExpandedPlan

Providers = Mapping[str, tuple[Workload, Service]]
_providers: AnswerCache[Mapping[str, Workload], tuple[()], Providers] = AnswerCache(2)


@dataclass(frozen=True, slots=True, kw_only=True)
class LastTest:
    """The newest test of a plan that was judged, by its number; ``inputs`` is all it was compiled from."""

    run: int = 0
    ended_at: datetime
    version: int
    verdict: str
    inputs: RunInputs | None = None


# Not slotted: the landings, which many rules look at, are worked out once and kept.
@dataclass(frozen=True, kw_only=True)
class Context:
    """A plan and the world around it at ``now``.

    ``workloads`` is the whole estate by name; ``newest`` the newest point per group, absent where a group
    has none; ``lost_sites`` are sites that do not answer, with the reason, and ``silent_since`` the moments
    when they were heard last. ``copying`` says how the site that holds the copies of a group stands;
    ``keys_missing`` are groups whose key is not stored; ``drifted`` counts what a site's agent says otherwise
    than the records, ``odd`` are its machines that cannot be taken over, ``skew_s`` is how far its clock is
    ahead, ``protocols`` which version of the site protocol it speaks, ``lacks`` which verbs of it are not
    there.
    ``held`` is, by workload, what is wrong with the landing that the target holds for it. ``laid`` is how
    ``plan`` came out of a plan with parts; ``others`` are the other plans that a workload is in; ``rows``
    the whole estate as it is searched; ``scripts`` the library, ``secrets`` the names of what is stored.
    ``free_mib`` is how much room is left for records and logs, ``standbys`` how many follow this Maestoso;
    None where that is not known.
    ``stages`` is where every group is in its lifecycle, ``refused`` why a site does not take one as it is
    defined; ``split`` names workloads of which a second live copy was found, and the site where; ``busy`` the
    run that is at work with a workload ("run 3, a test"). ``roles`` are the codes of all roles that people
    can have. ``zones`` are those whose names can be changed,
    with what was wrong when they were read last; ``known_names`` is what they said then.
    ``as_of`` tells the records that this was read from from all others; whoever acts on it compares.
    """

    plan: Plan
    version: int
    now: datetime
    as_of: tuple[str, ...] = ()
    workloads: Mapping[str, Workload]
    ground: Ground
    crosswalk: Crosswalk | None
    reverse: Crosswalk | None = None
    groups: tuple[Group, ...]
    newest: Mapping[str, RecoveryPoint]
    lost_sites: Mapping[str, str] = field(default_factory=dict)
    silent_since: Mapping[str, datetime] = field(default_factory=dict)
    last_test: LastTest | None = None
    copying: Mapping[str, CopyState] = field(default_factory=dict)
    keys_missing: frozenset[str] = frozenset()
    drifted: Mapping[str, int] = field(default_factory=dict)
    skew_s: Mapping[str, float] = field(default_factory=dict)
    protocols: Mapping[str, str] = field(default_factory=dict)
    lacks: Mapping[str, frozenset[str]] = field(default_factory=dict)
    odd: Mapping[str, tuple[OddMachine, ...]] = field(default_factory=dict)
    held: Mapping[str, str] = field(default_factory=dict)
    laid: ExpandedPlan | None = None
    others: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    rows: Mapping[str, Row] = field(default_factory=dict)
    scripts: Mapping[str, ScriptText] = field(default_factory=dict)
    secrets: frozenset[str] = frozenset()
    stages: Mapping[str, str] = field(default_factory=dict)
    refused: Mapping[str, str] = field(default_factory=dict)
    split: Mapping[str, str] = field(default_factory=dict)
    busy: Mapping[str, str] = field(default_factory=dict)
    free_mib: int | None = None
    standbys: int | None = None
    roles: frozenset[str] = frozenset(BY_CODE)
    zones: Mapping[str, str] = field(default_factory=dict)
    known_names: Known = field(default_factory=dict)

    @property
    def authored(self) -> Plan:
        """The plan as people edit it; ``plan`` has the waves of its parts as well."""
        return self.laid.authored if self.laid else self.plan

    @property
    def target(self) -> Inventory:
        """What the target has."""
        return self.ground.sites[self.plan.target]

    @cached_property
    def landed(self) -> Mapping[Side, Judged]:
        """All members judged together, live and in a test; empty without a crosswalk."""
        if self.crosswalk is None:
            return {}
        workloads = [workload for _, _, workload in self.known_members]
        copied = {name for group in self.groups if group.code in self.newest for name in group.members}
        return {side: judge_landings(self.crosswalk, self.ground, workloads, side, copied) for side in SIDES}

    def group_of(self, workload: str) -> Group | None:
        """The group that copies ``workload`` in the direction of the plan."""
        return self._protecting.get(workload)

    @cached_property
    def _protecting(self) -> Mapping[str, Group]:
        way = (self.plan.source, self.plan.target)
        ours = [group for group in self.groups if (group.source, group.target) == way]
        return {name: group for group in reversed(ours) for name in group.members}

    @cached_property
    def known_members(self) -> tuple[tuple[int, Member, Workload], ...]:
        """Members whose workload is in the estate, with their wave; of the size they get at the target."""
        return tuple(
            (wave, member, _sized(self.workloads[member.workload], member))
            for wave, member in self.plan.members()
            if member.workload in self.workloads
        )

    @cached_property
    def planned_groups(self) -> tuple[str, ...]:
        """Codes of the groups that the members belong to, in the order of the plan."""
        found = (self.group_of(workload.name) for _, _, workload in self.known_members)
        return tuple(dict.fromkeys(group.code for group in found if group is not None))

    def cues_of(self, kind: CueKind) -> Iterator[Cue]:
        """The cues of one kind, and of no other besides, in the order of the plan."""
        return (cue for _, _, cue in self.plan.placed_cues() if cue.parts() == (kind,))

    def site_of(self, workload: str) -> str | None:
        """Where a workload is at home now; None where that is not known."""
        return self.ground.site_of.get(workload)

    def provider_of(self, service: str) -> tuple[Workload, Service] | None:
        """Who offers a service, anywhere in the estate."""
        return _providers.answer(self.workloads, (), self._all_providers).get(service)

    def _all_providers(self) -> Providers:
        found: dict[str, tuple[Workload, Service]] = {}
        for workload in self.workloads.values():
            for offered in workload.offers:
                found.setdefault(offered.name, (workload, offered))
        return found


def _sized(workload: Workload, member: Member) -> Workload:
    if member.cores is None and member.memory_mib is None:
        return workload
    cores, memory_mib = member.cores or workload.cores, member.memory_mib or workload.memory_mib
    return replace(workload, cores=cores, memory_mib=memory_mib)
