"""The world around plans at one moment: read once, and the same for every plan that is judged in it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from functools import cached_property

from django.db.models import Max

from maestoso.core.errors import NotFound
from maestoso.core.landing.names import Known
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.model.plan import Plan
from maestoso.core.model.protection import Group, RecoveryPoint
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.planning.parts import expand_parts
from maestoso.core.planning.turned import is_away, turned
from maestoso.core.readiness.context import Context, LastTest
from maestoso.core.wording import KINDS
from maestoso.server.access.roles import known_roles
from maestoso.server.common.room import free_mib
from maestoso.server.crosswalks.held import landing_mismatches
from maestoso.server.estate.agents import Pulse, pulse
from maestoso.server.estate.drift import drifted
from maestoso.server.estate.models import EstateMark, Site, WorkloadRow
from maestoso.server.estate.services import lacks, odd_of
from maestoso.server.estate.snapshot import EstateSnapshot, estate
from maestoso.server.names.services import known_names, names_mark, zones
from maestoso.server.plans.models import PlanRow, PlanVersion
from maestoso.server.plans.services import newest_versions
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import keys_missing
from maestoso.server.reign import standbys
from maestoso.server.runs.events import inputs_of_all
from maestoso.server.runs.fences import found_running
from maestoso.server.runs.measured import measured_mark
from maestoso.server.runs.models import Run, RunStep
from maestoso.server.scripts.services import script_texts, secret_names

NAMES_OF_KINDS = {**KINDS, "test": "test"}
JUDGED = ("passed", "failed", "inconclusive")


def as_of() -> tuple[str, ...]:
    """Tells one state of the estate, its crosswalks and the plans from every other."""
    mark = EstateMark.objects.filter(pk=1).values_list("mark", flat=True).first() or ""
    plans = PlanRow.objects.order_by("pk").values_list("code", "current")
    return mark, names_mark(), *(f"{code} {number}" for code, number in plans)


class Surroundings:
    """Everything that plans are judged by, read when it is asked for first and kept from then on.

    Nothing of it is to be changed, and none of it outlives the request that asks.
    """

    def __init__(self, now: datetime) -> None:
        self.now = now
        self.as_of = as_of()
        self._pulses: dict[str, Pulse] = {}
        self._drifted: dict[str, int] = {}
        self._held: dict[str, dict[str, str]] = {}
        self._measured: dict[str, tuple[int, int | None]] = {}

    # --- records ---

    @cached_property
    def sites(self) -> dict[str, Site]:
        """All sites, by their codes."""
        return {site.code: site for site in Site.objects.all()}

    @cached_property
    def roles(self) -> frozenset[str]:
        """The codes of all roles that people can have."""
        return frozenset(known_roles())

    @cached_property
    def versions(self) -> dict[str, PlanVersion]:
        """The newest version of every plan, by the plan's code; most are known as values already."""
        return {row.plan.code: row for row in newest_versions().defer("body")}

    @cached_property
    def plans(self) -> dict[str, Plan]:
        """Every plan as it is now."""
        return {code: row.core() for code, row in self.versions.items()}

    @cached_property
    def rows_and_groups(self) -> list[tuple[GroupRow, Group]]:
        """All groups."""
        groups: list[tuple[GroupRow, Group]] = self.estate.parts["groups"]
        return groups

    @cached_property
    def groups(self) -> tuple[Group, ...]:
        """All groups as values."""
        return tuple(group for _, group in self.rows_and_groups)

    @cached_property
    def stages(self) -> dict[str, str]:
        """Where every group is in its lifecycle."""
        return {row.code: row.stage for row, _ in self.rows_and_groups}

    @cached_property
    def refused(self) -> dict[str, str]:
        """Groups that their sites do not take as they are defined, and what these said."""
        return {row.code: row.refused for row, _ in self.rows_and_groups if row.refused}

    @cached_property
    def estate(self) -> EstateSnapshot:
        """Workloads, sites and groups, all of one moment."""
        return estate()

    @property
    def crosswalks(self) -> dict[tuple[str, str], Crosswalk]:
        """All crosswalks, by source and target."""
        found: dict[tuple[str, str], Crosswalk] = self.estate.parts["crosswalks"]
        return found

    @cached_property
    def scripts(self) -> Mapping[str, ScriptText]:
        """The library."""
        return script_texts()

    @cached_property
    def secrets(self) -> frozenset[str]:
        """Names of what is stored."""
        return secret_names()

    @cached_property
    def zones(self) -> Mapping[str, str]:
        """Zones whose names can be changed, with what was wrong when they were read last."""
        return zones()

    @cached_property
    def known_names(self) -> Known:
        """What zones said when they were read last."""
        return known_names()

    @cached_property
    def split(self) -> dict[str, str]:
        """Workloads of which a second live copy was found, with the site where."""
        return found_running()

    @cached_property
    def busy(self) -> dict[str, str]:
        """The run that is at work with a workload, in words."""
        steps = RunStep.objects.filter(run__outcome="", run__last_seq__gt=0).exclude(workload="")
        found = steps.values_list("workload", "run_id", "run__kind").distinct()
        return {name: f"run {pk}, a {NAMES_OF_KINDS[kind]}" for name, pk, kind in found}

    @cached_property
    def last_tests(self) -> dict[str, LastTest]:
        """The newest test of every plan that a person judged, by the plan's code."""
        judged = Run.objects.filter(kind="test", outcome__in=JUDGED, ended_at__isnull=False)
        newest = judged.values("plan_code").annotate(at=Max("ended_at")).values_list("plan_code", "at")
        at = dict(newest)
        found = judged.filter(ended_at__in=at.values())
        runs = [run for run in found if at[run.plan_code] == run.ended_at]
        inputs = inputs_of_all([run.pk for run in runs if run.removed_at is None])
        return {
            run.plan_code: LastTest(
                run=run.pk, ended_at=run.ended_at, version=run.plan_version, verdict=run.outcome,
                inputs=inputs.get(run.pk),
            )
            for run in runs if run.ended_at is not None
        }  # fmt: skip

    @cached_property
    def active_runs(self) -> dict[str, int]:
        """The run of a plan that is under way, by the plan's code."""
        active = Run.objects.filter(outcome="", last_seq__gt=0).order_by("pk")
        return dict(active.values_list("plan_code", "pk"))

    def measured_mark(self, target: str) -> tuple[int, int | None]:
        """Tells one set of runs at a site, whose times were measured, from another."""
        if target not in self._measured:
            self._measured[target] = measured_mark(target)
        return self._measured[target]

    @cached_property
    def keys_missing(self) -> frozenset[str]:
        """Groups whose copies are encrypted and whose key is not stored."""
        return keys_missing()

    @cached_property
    def home_sizes(self) -> dict[str, tuple[int, int]]:
        """Cores and memory in MiB that workloads which run away from home had there."""
        rows = WorkloadRow.objects.filter(home__isnull=False).values_list("name", "home")
        return {name: (home["cores"], home["memory_mib"]) for name, home in rows if home}

    def held(self, target: str) -> dict[str, str]:
        """By workload, what is wrong with the landing that a site was asked to hold."""
        if target not in self._held:
            self._held[target] = landing_mismatches(self.sites[target])
        return self._held[target]

    # --- what sites say ---

    def pulse(self, code: str) -> Pulse:
        """What a site said just now, or why it said nothing."""
        if code not in self._pulses:
            self._pulses[code] = pulse(self.sites[code])
        return self._pulses[code]

    def drifted(self, code: str) -> int:
        """In how many things a site differs from the records."""
        if code not in self._drifted:
            self._drifted[code] = drifted(self.sites[code])
        return self._drifted[code]

    @cached_property
    def free_mib(self) -> int | None:
        """How much room is left for records."""
        return free_mib()

    @cached_property
    def standbys(self) -> int:
        """How many follow this installation now."""
        return len(standbys.following())

    # --- one plan in all that ---

    def bare_context(self, plan: Plan, version: int) -> Context:
        """A plan in its world without asking any site. Its parts are laid out by their newest versions.

        Raises NotFound for a target that is not registered.
        """
        others = {code: other for code, other in self.plans.items() if code != plan.code}
        laid = expand_parts(plan, others.get)
        laid_plan = laid.plan
        if is_away(laid_plan, self.groups):
            laid_plan = turned(laid_plan, self.home_sizes)
        source, target = laid_plan.source, laid_plan.target
        if target not in self.sites:
            raise NotFound(f"There is no site {target!r}.", "Register the site first.")
        return Context(
            plan=laid_plan, version=version, now=self.now, as_of=self.as_of,
            workloads=self.estate.workloads, ground=self.estate.ground,
            crosswalk=self.crosswalks.get((source, target)), reverse=self.crosswalks.get((target, source)),
            groups=self.groups, newest={}, last_test=self.last_tests.get(plan.code),
            held=self.held(target), laid=laid, others=_other_plans(plan, others),
            rows=self.estate.rows, scripts=self.scripts,
            secrets=self.secrets, stages=self.stages, refused=self.refused, split=self.split, busy=self.busy,
            roles=self.roles,
            zones=self.zones, known_names=self.known_names,
        )  # fmt: skip

    def context(self, plan: Plan, version: int, newest: Mapping[str, RecoveryPoint] | None = None) -> Context:
        """The same with what its sites say now; ``newest`` points are asked of the target unless given."""
        bare = self.bare_context(plan, version)
        if newest is not None:
            return replace(bare, newest=newest)
        plan = bare.plan
        ends = [code for code in (plan.source, plan.target) if code in self.sites]
        said = {code: self.pulse(code) for code in ends}
        taken = said[plan.target]
        return replace(
            bare, newest=taken.newest, copying=taken.copying, keys_missing=self.keys_missing,
            lost_sites={code: one.lost_because for code, one in said.items() if one.lost_because},
            silent_since={
                code: since for code, one in said.items()
                if one.lost_because and (since := self.sites[code].silent_since)
            },
            drifted={code: self.drifted(code) for code in ends}, skew_s={plan.target: taken.skew_s},
            protocols={code: one.said.protocol for code, one in said.items() if one.said},
            lacks={code: lacks(self.sites[code]) for code in ends},
            odd={code: odd_of(self.sites[code]) for code in ends},
            free_mib=self.free_mib, standbys=self.standbys if plan.needs_standby else None,
        )  # fmt: skip


def _other_plans(plan: Plan, others: Mapping[str, Plan]) -> dict[str, tuple[str, ...]]:
    """The names of the other plans that a workload is in; plans that contain each other are not others."""
    related = {part.plan for part in plan.parts}
    related |= {code for code, other in others.items() if any(p.plan == plan.code for p in other.parts)}
    found: dict[str, tuple[str, ...]] = {}
    for code, other in others.items():
        if code not in related and (other.source, other.target) == (plan.source, plan.target):
            for name in other.workloads():
                found[name] = (*found.get(name, ()), other.name)
    return found


def bare_context(plan: Plan, version: int, at: datetime) -> Context:
    """The world around a plan without asking any site."""
    return Surroundings(at).bare_context(plan, version)


def context(
    plan: Plan, version: int, at: datetime, newest: Mapping[str, RecoveryPoint] | None = None
) -> Context:
    """The world around a plan now; ``newest`` points are asked of the target unless given."""
    return Surroundings(at).context(plan, version, newest)
