"""The readiness board: could every plan run now, would it meet its objectives, when was that proved?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from urllib.parse import unquote

from maestoso.core.answer_cache import AnswerCache
from maestoso.core.landing.ground import Ground
from maestoso.core.model.finding import Finding
from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.core.planning.inputs import LIVE, Kind
from maestoso.core.readiness.assess import RECOVERY, Assessment, findings_of
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.if_lost import IfLost, Place, Way, if_lost, way_of
from maestoso.core.replication.lifecycle import is_copied
from maestoso.server.board.actions import (
    from_approvals,
    from_copies,
    from_declared,
    from_failovers,
    from_forgotten,
    from_plans,
    from_room,
    from_runs,
    from_sites,
    from_split,
    without_purpose,
)
from maestoso.server.board.shapes import KindState, LastProof, PlanRowView, Readiness
from maestoso.server.board.upkeep import of_itself
from maestoso.server.drills.picture import next_actions
from maestoso.server.readiness.judgement import assess_plan, figures, findings_for
from maestoso.server.readiness.surroundings import Surroundings
from maestoso.server.runs.models import Run
from maestoso.server.runs.states import each
from maestoso.server.runs.whereabouts import running

STARTED: tuple[Kind, ...] = ("test", *LIVE)
"""Kinds of run that a plan is made for."""
ORDER = {"now": 0, "soon": 1, "sometime": 2}
_judged: AnswerCache[Ground, tuple[object, ...], Assessment] = AnswerCache(400)


def readiness(now: datetime, reach: Reach = EVERYTHING) -> Readiness:
    """The whole board, or what of it is within reach: these plans, and what these workloads would be."""
    around = Surroundings(now)
    rows = []
    for code, version in around.versions.items():
        if not reach.has("plan", code):
            continue
        ctx = around.context(around.plans[code], version.number)
        rows.append((ctx, _row(around, ctx, _assess(around, ctx))))
    lost, idle = _if_lost(around, rows, reach), without_purpose(rows)
    actions = [
        *of_itself(now), *from_split(), *from_forgotten(around), *from_room(rows), *from_runs(),
        *from_approvals(now, reach),
        *from_sites(around, lost), *from_declared(around, lost),
        *from_failovers(rows), *from_copies(now, reach), *next_actions(now), *idle.values(),
        *from_plans([pair for pair in rows if pair[1].code not in idle]),
    ]  # fmt: skip
    if not reach.everything:
        actions = [action for action in actions if leads_into(action.to, reach)]
    return Readiness(
        now=now, if_lost=lost, actions=tuple(sorted(actions, key=lambda action: ORDER[action.urgency])),
        plans=tuple(view for _, view in rows),
    )  # fmt: skip


def leads_into(to: str, reach: Reach) -> bool:
    """Whether an action leads to something within reach; others are for who sees everything."""
    path, _, asked = to.partition("?")
    _, kind, *rest = path.split("/")
    name = unquote(rest[0]) if rest else ""
    if kind == "runs" and name:
        run = Run.objects.filter(pk=name).first()
        return run is not None and reach.has_run(run.plan_code, run.source, run.target)
    if kind == "runs":
        return True  # of no run: of all of them
    if kind == "protection" and name == "new":
        return reach.has("workload", unquote(asked.removeprefix("members=")))
    if kind == "approvals":
        return True  # narrowed already
    return kind in ("plans", "protection") and reach.has({"plans": "plan", "protection": "group"}[kind], name)


def _assess(around: Surroundings, ctx: Context) -> Assessment:
    """The forecast is kept while nothing that it depends on changed; findings are always fresh."""
    measured = around.measured_mark(ctx.plan.target)
    question = (ctx.plan, ctx.crosswalk, ctx.groups, tuple(ctx.scripts), measured)
    kept = _judged.answer(ctx.ground, question, lambda: assess_plan(ctx, RECOVERY))
    return replace(kept, findings=findings_of(ctx, kept.inputs.estimates if kept.inputs else None))


def _row(around: Surroundings, ctx: Context, judged: Assessment) -> PlanRowView:
    plan, now = ctx.plan, around.now
    at_risk_s, no_risk_because = _at_risk(ctx, now)
    proof = None
    if ctx.last_test is not None:
        age = now - ctx.last_test.ended_at
        proof = LastProof(
            run=ctx.last_test.run,
            ended_at=ctx.last_test.ended_at,
            verdict=ctx.last_test.verdict,
            version=ctx.last_test.version,
            overdue=age > timedelta(days=plan.drill_every_days),
        )
    return PlanRowView(
        code=plan.code,
        name=plan.name,
        owner=plan.owner,
        tags=plan.tags,
        source=plan.source,
        target=plan.target,
        version=ctx.version,
        workloads=len(plan.workloads()),
        rpo_s=plan.rpo_s,
        rto_s=plan.rto_s,
        drill_every_days=plan.drill_every_days,
        forecast=figures(judged, plan),
        at_risk_s=at_risk_s,
        no_risk_because=no_risk_because,
        last_proof=proof,
        active_run=around.active_runs.get(plan.code),
        kinds=tuple(_state(ctx, judged.findings, kind) for kind in STARTED),
        stale=tuple(f.sentence for f in judged.findings if f.code.endswith("changed-since-test")),
        findings=judged.findings,
    )


def _state(ctx: Context, findings: Sequence[Finding], kind: Kind) -> KindState:
    said = findings_for(ctx, findings, kind)
    return KindState(
        kind=kind,
        blocking=tuple(one.sentence for one, severity in said if severity == "blocks"),
        warns=sum(1 for _, severity in said if severity == "warns"),
    )


def _at_risk(ctx: Context, now: datetime) -> tuple[float | None, str]:
    """How old the oldest of the newest points is; or None, and why there is no such age."""
    groups = ctx.planned_groups
    protecting = {ctx.rows[name].group for name in ctx.plan.workloads() if name in ctx.rows} - {""}
    away = sorted(code for code in protecting if not is_copied(ctx.stages.get(code, "protected")))
    if away:
        return None, ctx.stages[away[0]]
    if protecting - set(groups):
        return None, f"not all of it runs at {ctx.plan.source}"
    if ctx.plan.target in ctx.lost_sites:
        return None, f"{ctx.plan.target} does not answer"
    if not groups:
        return None, "nothing is copied"
    if any(code not in ctx.newest for code in groups):
        return None, "no point yet"
    return max((now - ctx.newest[code].at).total_seconds() for code in groups), ""


def _if_lost(
    around: Surroundings, rows: Sequence[tuple[Context, PlanRowView]], reach: Reach
) -> tuple[IfLost, ...]:
    """Every site where anything runs: what is down first, then the largest."""
    ways = [_way(ctx, view) for ctx, view in rows]
    there = running(around.estate.rows, {code: around.pulse(code) for code in around.sites})
    if not reach.everything:
        there = {code: names & reach.workloads for code, names in there.items()}
    groups = {name: row.group for name, row in around.estate.rows.items() if row.group}
    names = {code: site.name for code, site in around.sites.items()}
    live = list(Run.objects.filter(outcome="", last_seq__gt=0, kind__in=LIVE))
    moving: dict[str, dict[str, str]] = {}
    for run, state in each(live):
        of_it = {member.workload: f"run {run.pk}" for _, member in state.inputs.plan.members()
                 if member.power_on}  # fmt: skip
        moving.setdefault(run.source, {}).update(of_it)
    stages = {group.code: f"{group.name} is {around.stages[group.code]}" for group in around.groups
              if not is_copied(around.stages[group.code])}  # fmt: skip
    uncopied = {name: stages[group] for name, group in groups.items() if group in stages}
    found = []
    for code, site in around.sites.items():
        place = Place(
            code=code, name=site.name, running=frozenset(there.get(code, ())),
            down=around.pulse(code).lost_because is not None, silent_since=site.silent_since,
            recovering=tuple(
                f"{run.plan_name} is being recovered at {names.get(run.target, run.target)} (run {run.pk})"
                for run in live if run.source == code and run.kind == "disaster"
            ),
            moving=moving.get(code, {}), uncopied=uncopied,
        )  # fmt: skip
        if reach.has("site", code) and (place.running or place.down):
            found.append(if_lost(place, ways, groups, names, around.now))
    return tuple(sorted(found, key=lambda one: (not one.down, -one.running)))


def _way(ctx: Context, view: PlanRowView) -> Way:
    """A test that is under way is no more than an abort away; everything else that blocks, blocks."""
    said = findings_for(ctx, view.findings, "disaster")
    blocking = [one for one, severity in said if severity == "blocks" and one.code != "run-in-the-way"]
    busy = dict.fromkeys(ctx.busy[name] for name in ctx.plan.workloads() if name in ctx.busy)
    first = " and ".join(busy) + (" is aborted" if len(busy) == 1 else " are aborted") if busy else ""
    about_s = view.forecast.p50_s if view.forecast else None
    return way_of(ctx, blocking[0].sentence if blocking else "", about_s, first)
