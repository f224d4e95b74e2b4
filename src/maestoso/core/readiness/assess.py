"""All rules, and the inputs of a run where they allow one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from maestoso.core.forecast.durations import estimates
from maestoso.core.forecast.monte_carlo import Forecast, forecast
from maestoso.core.model.crosswalk import Side
from maestoso.core.model.estate import SiteLimits
from maestoso.core.model.finding import Finding, sort_key
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.planning.compiled import compile_run
from maestoso.core.planning.failover import SOURCE_LIMIT_S
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import (
    LIVE,
    Estimate,
    GroupCopy,
    Kind,
    LiveChoices,
    Probed,
    RunInputs,
    ScriptText,
)
from maestoso.core.readiness import (
    agent_rules,
    cue_rules,
    door_rules,
    landing_rules,
    live_rules,
    name_rules,
    part_rules,
    plan_rules,
    proof_rules,
    protection_rules,
    room_rules,
)
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.mends import MENDS, label
from maestoso.core.readiness.timing_rules import ready_timeout_short

Rule = Callable[[Context], Iterator[Finding]]

RULES: tuple[Rule, ...] = (
    plan_rules.nothing_in_it,
    plan_rules.member_twice,
    plan_rules.member_unknown,
    plan_rules.delay_out_of_range,
    plan_rules.out_of_range,
    plan_rules.dependency_cycle,
    plan_rules.waits_for_later_wave,
    plan_rules.dependency_outside,
    plan_rules.service_comes_later,
    plan_rules.heartbeat_without_agent,
    plan_rules.checks_without_address,
    cue_rules.cue_twice,
    cue_rules.cue_malformed,
    cue_rules.cue_aims_outside,
    cue_rules.script_missing,
    cue_rules.secret_missing,
    cue_rules.probe_address_moves,
    name_rules.name_malformed,
    name_rules.name_without_zone,
    name_rules.name_leads_nowhere,
    name_rules.name_leads_elsewhere,
    name_rules.zone_not_read,
    name_rules.ttl_long,
    door_rules.door_malformed,
    door_rules.door_unknown,
    door_rules.door_without_row,
    door_rules.door_cannot_open,
    door_rules.door_of_test_is_production,
    door_rules.door_open_twice,
    door_rules.door_without_name,
    door_rules.door_stays,
    part_rules.parts_hold,
    part_rules.arrives_twice,
    part_rules.in_other_plans,
    part_rules.tag_brings,
    proof_rules.test_overdue,
    proof_rules.changed_since_test,
    proof_rules.estate_changed_since_test,
    proof_rules.landings_changed_since_test,
    proof_rules.script_changed_since_test,
    protection_rules.member_without_group,
    protection_rules.group_without_point,
    protection_rules.lag_over_rpo,
    protection_rules.copying_in_trouble,
    protection_rules.key_missing,
    protection_rules.site_drifted,
    protection_rules.machines_not_taken_over,
    protection_rules.clock_skewed,
    protection_rules.agent_too_old,
    agent_rules.agent_lacks_verbs,
    protection_rules.disk_left_out,
    protection_rules.uses_what_stays_behind,
    landing_rules.crosswalk_missing,
    landing_rules.crosswalk_holds,
    landing_rules.landings_hold,
    landing_rules.dns_comes_later,
    landing_rules.held_landings,
    landing_rules.target_answers,
    live_rules.run_in_the_way,
    live_rules.group_on_its_way,
    live_rules.group_split,
    live_rules.source_running,
    room_rules.little_room,
    room_rules.no_standby,
)

MANY_STEPS = 3000
"""From here on half the samples do: the ends of large plans spread less, and people wait while they edit."""

UNPLANNABLE = frozenset(
    {
        "plan-empty",
        "member-twice",
        "workload-unknown",
        "delay-out-of-range",
        "timeout-out-of-range",
        "out-of-range",
        "cue-twice",
        "cue-malformed",
        "cue-aims-outside",
        "script-missing",
        "part-missing",
        "part-other-way",
        "part-circle",
        "dependency-cycle",
        "waits-for-later-wave",
        "member-without-group",
        "crosswalk-missing",
    }
)
"""Findings with which no step graph can be made, so that there is no forecast either."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Options:
    """What a person chooses for a run. ``points`` are chosen per group; the newest serves for the rest.

    ``apart`` are points for single workloads.
    """

    points: Mapping[str, RecoveryPoint]
    apart: Mapping[str, RecoveryPoint] = field(default_factory=dict)
    kind: Kind = "test"
    live: LiveChoices | None = None
    sync_first: bool = False
    pace: float = 1.0
    cleanup_at: datetime | None = None
    unattended: bool = False
    probed: tuple[Probed, ...] = ()


RECOVERY = Options(points={}, kind="disaster", live=LiveChoices(close_down=False))
"""What times of recovery are of: the source is lost, so that nothing is asked of it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Assessment:
    """Findings, worst first; and where a run can be planned: its inputs, graph and forecast."""

    findings: tuple[Finding, ...]
    kind: Kind = "test"
    inputs: RunInputs | None = None
    graph: StepGraph | None = None
    forecast: Forecast | None = None

    @property
    def blocked(self) -> bool:
        """Whether the run must not start."""
        return bool(self.blocking)

    @property
    def blocking(self) -> tuple[Finding, ...]:
        """What is in the way of this kind of run."""
        return tuple(one for one in self.findings if severity_in(one, self.kind) == "blocks")


def severity_in(finding: Finding, kind: Kind) -> str:
    """What a finding is for a kind of run: a severity, or none where it does not matter."""
    return finding.live_severity if kind in LIVE else finding.severity


def findings_of(ctx: Context, expected: Mapping[str, Estimate] | None = None) -> tuple[Finding, ...]:
    """What every rule noticed, worst first; with what is ``expected`` of the steps where that is known."""
    return _in_order(ctx, [*_noticed(ctx), *ready_timeout_short(ctx.plan, expected or {})])


def _noticed(ctx: Context) -> list[Finding]:
    return [finding for rule in RULES for finding in rule(ctx)]


def _in_order(ctx: Context, noticed: list[Finding]) -> tuple[Finding, ...]:
    found = sorted(dict.fromkeys(noticed), key=sort_key)
    return tuple(replace(one, fix=label(ctx, one)) if one.code in MENDS else one for one in found)


def assess(
    ctx: Context,
    options: Options,
    mark: str,
    measured: Mapping[str, Sequence[float]],
    samples: int = 400,
    limits: SiteLimits | None = None,
    whole: bool = True,
    every_kind: bool = False,
) -> Assessment:
    """Judge a run of ``ctx.plan``: findings, and its forecast where one can be made.

    ``measured`` holds machine seconds of earlier steps by step id; ``mark`` names the copies of this run;
    ``limits`` stand for those of the target, if one asks what if. Unless it is ``whole``, the graph ends with
    what is judged, and ``inputs`` are not to be run. With ``every_kind``, findings are those of the plan,
    whatever is run of it.
    """
    kind, window_s = options.kind, options.live.decide_within_s if options.live else 0
    noticed = _noticed(ctx)
    of_this = [
        *live_rules.live_only(ctx, kind, window_s),
        *protection_rules.points_apart(ctx, options.apart),
    ]
    found = noticed if every_kind else [*noticed, *of_this]
    if any(finding.code in UNPLANNABLE for finding in (*noticed, *of_this)):
        return Assessment(findings=_in_order(ctx, found), kind=kind)
    side: Side = "live" if kind in LIVE else "test"
    landings = ctx.landed[side].landings
    inputs = RunInputs(
        kind=kind,
        plan=ctx.plan,
        plan_version=ctx.version,
        mark=mark,
        workloads=tuple(workload for _, _, workload in ctx.known_members),
        landings=landings,
        groups=_group_copies(ctx, options),
        limits=limits or _limits(ctx, kind),
        sync_first=options.sync_first,
        pace=options.pace,
        cleanup_at=options.cleanup_at,
        unattended=options.unattended,
        probed=options.probed,
        scripts=_scripts(ctx),
        live=_known(ctx, options.live, landings) if kind in LIVE else None,
        names=name_rules.name_changes(ctx, side),
        doors=door_rules.moves(ctx, side),
    )
    graph = compile_run(inputs, whole)
    expected = estimates(graph.steps, {w.name: w for w in inputs.workloads}, measured)
    samples = samples if len(graph) < MANY_STEPS else samples // 2
    return Assessment(
        findings=_in_order(ctx, [*found, *ready_timeout_short(ctx.plan, expected)]),
        kind=kind,
        inputs=replace(inputs, estimates=expected),
        graph=graph,
        forecast=forecast(graph, expected, inputs.limits, ctx.plan.rto_s, samples=samples),
    )


def _limits(ctx: Context, kind: Kind) -> SiteLimits:
    """Of the target; a live run gives power at both sites, so it keeps to the smaller of the two."""
    limits, source = ctx.target.limits, ctx.ground.sites.get(ctx.plan.source)
    if kind not in LIVE or source is None:
        return limits
    return replace(limits, power=min(limits.power, source.limits.power))


def _known(ctx: Context, live: LiveChoices | None, landings: Sequence[Landing]) -> LiveChoices:
    """The choices, with the pools whose standby hosts this run needs, and whether the source is silent."""
    wanted: dict[str, int] = {}
    for landing in landings:
        wanted[landing.host_pool] = wanted.get(landing.host_pool, 0) + landing.memory_mib
    wake = [
        pool.name
        for pool in ctx.target.host_pools
        if pool.standby_hosts and pool.hosts and wanted.get(pool.name, 0) + pool.used_memory_mib
        > pool.memory_mib * (pool.hosts - pool.standby_hosts) // pool.hosts
    ]  # fmt: skip
    heard_last = ctx.silent_since.get(ctx.plan.source, ctx.now)
    silent = (ctx.now - heard_last).total_seconds() >= SOURCE_LIMIT_S
    return replace(live or LiveChoices(), wake=tuple(wake), source_silent=silent)


def _scripts(ctx: Context) -> tuple[ScriptText, ...]:
    """The texts that the plan's cues run, each once: a run keeps what it ran."""
    called = {cue.script.script for _, _, cue in ctx.plan.placed_cues() if cue.script is not None}
    return tuple(ctx.scripts[name] for name in sorted(called))


def _group_copies(ctx: Context, options: Options) -> tuple[GroupCopy, ...]:
    members: dict[str, list[str]] = {}
    for _, member in ctx.plan.members():
        group = ctx.group_of(member.workload)
        if group is not None:
            members.setdefault(group.code, []).append(member.workload)
    return tuple(
        GroupCopy(
            code=code,
            members=tuple(names),
            point=options.points.get(code) or ctx.newest.get(code),
            apart={name: options.apart[name] for name in names if name in options.apart},
        )
        for code, names in members.items()
    )
