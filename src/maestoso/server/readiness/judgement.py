"""Forecast, findings and preflight of plans, as the pages show them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime

from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.model.estate import SiteLimits
from maestoso.core.model.finding import Finding
from maestoso.core.model.plan import Plan
from maestoso.core.people.roles import APPROVE
from maestoso.core.planning.diff import changes
from maestoso.core.planning.inputs import Kind
from maestoso.core.readiness import door_rules, name_rules
from maestoso.core.readiness.assess import (
    RECOVERY,
    Assessment,
    Options,
    assess,
    findings_of,
    severity_in,
)  # fmt: skip
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.landing_rules import crosswalk_holds
from maestoso.core.readiness.live_rules import live_only, reprotect_findings
from maestoso.core.readiness.mends import fixed
from maestoso.core.readiness.proof_rules import at_a_start
from maestoso.core.replication.anomaly import clean_point_hint
from maestoso.core.score import forecast_score
from maestoso.core.wording import lasting
from maestoso.server.access.may import able
from maestoso.server.approvals.services import wanted_for
from maestoso.server.config.settings import OPTIONS
from maestoso.server.crosswalks.picture import LONGEST_PAGE
from maestoso.server.crosswalks.picture import view as view_landings
from maestoso.server.crosswalks.shapes import LandingsAsked, LandingsView
from maestoso.server.estate.agents import needed
from maestoso.server.estate.models import Site
from maestoso.server.evidence.models import Addition
from maestoso.server.plans import plan_file
from maestoso.server.plans.models import PlanRow
from maestoso.server.plans.services import find_plan
from maestoso.server.protection.picture import points_of, proved
from maestoso.server.readiness.choices import read_choices, services_of
from maestoso.server.readiness.shapes import (
    AssessmentView,
    Draft,
    ForecastFigures,
    GroupPoints,
    KindOffered,
    MendAsked,
    Mended,
    PlanFileRead,
    PlanPoints,
    Preflight,
    RunNotes,
    RunOptions,
)
from maestoso.server.readiness.surroundings import bare_context, context
from maestoso.server.runs.measured import measured
from maestoso.server.runs.models import Run
from maestoso.server.runs.traps import traps_of_plan

MOST_AT_ONCE = 1000
RUNS_LOOKED_AT, MOST_NOTES = 60, 20


def view(ctx: Context, judged: Assessment, said: tuple[str, ...] = ()) -> AssessmentView:
    """An assessment for the API."""
    steps = forecast_score(judged.graph, judged.forecast) if judged.graph and judged.forecast else ()
    return AssessmentView(
        findings=judged.findings,
        blocked=judged.blocked,
        forecast=figures(judged, ctx.plan),
        steps=steps,
        waves=tuple(wave.name for wave in ctx.plan.waves),
        own_from=len(ctx.plan.waves) - len(ctx.authored.waves),
        changes=said,
    )


def figures(judged: Assessment, plan: Plan) -> ForecastFigures | None:
    """The numbers of a forecast, if there is one."""
    made, graph = judged.forecast, judged.graph
    if made is None or graph is None:
        return None
    # What decides is where the critical path spends most of its time.
    spent: dict[str, float] = {}
    for name in made.critical:
        at = graph.index[name]
        workload = graph.steps[at].workload
        if workload:
            took = made.likely.finish_s[at] - made.likely.start_s[at] + graph.steps[at].delay_s
            spent[workload] = spent.get(workload, 0.0) + took
    return ForecastFigures(
        p10_s=round(made.p10_s, 1),
        p50_s=round(made.p50_s, 1),
        p80_s=round(made.p80_s, 1),
        p95_s=round(made.p95_s, 1),
        chance=round(made.chance, 4),
        objective_s=plan.rto_s,
        decides=max(spent, key=lambda name: spent[name], default=""),
    )


def assess_plan(
    ctx: Context, options: Options, limits: SiteLimits | None = None, mark: str = "t0", whole: bool = False,
    every_kind: bool = False,
) -> Assessment:  # fmt: skip
    """Assess with what earlier runs at the target measured; ``whole`` for what is to be run."""
    times = measured(ctx.plan.target)
    return assess(ctx, options, mark, times, limits=limits, whole=whole, every_kind=every_kind)


def assess_recovery(ctx: Context, limits: SiteLimits | None = None, whole: bool = False) -> Assessment:
    """What a recovery would take, its source being lost; with findings for every kind of run."""
    return assess_plan(ctx, RECOVERY, limits=limits, whole=whole, every_kind=True)


def assess_draft(code: str, draft: Draft, now: datetime) -> AssessmentView:
    """Judge a draft: findings, forecast, score, and what it changes."""
    row = find_plan(code)
    limits = draft.limits
    for field in ("power", "copies", "clones"):
        if limits is not None and not 1 <= getattr(limits, field) <= MOST_AT_ONCE:
            said = f"{field} is {getattr(limits, field)}."
            raise BadValue(said, f"Give 1 to {MOST_AT_ONCE}.", field=f"body.limits.{field}")
    base = row.versions.defer("body").filter(number=draft.based_on).first()
    changed = changes(base.core(), draft.plan) if base else ()
    ctx = context(draft.plan, row.current if not changed else row.current + 1, now)
    return view(ctx, assess_recovery(ctx, limits), changed)


def mended(code: str, asked: MendAsked, now: datetime) -> Mended:
    """A draft with one finding mended. Raises Refused where no change of the plan mends it."""
    row = find_plan(code)
    ctx = context(asked.plan, row.current + 1, now)
    wanted, others = (asked.code, asked.subject, asked.part), asked.others
    for finding in assess_recovery(ctx).findings:
        if (finding.code, finding.subject, finding.part) == wanted and others in (None, finding.others):
            better = fixed(ctx, finding)
            if better is not None:
                return Mended(plan=better)
    raise Refused("There is nothing that a change of this plan would fix.", "Look at the findings again.")


def read_plan_file(text: str, now: datetime) -> PlanFileRead:
    """What a plan file says, with the findings of its plan. Nothing is saved."""
    plan, problems = plan_file.read(text)
    findings: tuple[Finding, ...] = ()
    if plan is not None and Site.objects.filter(code=plan.target).exists():
        # The proof of the plan that has this code already is still its own.
        known = PlanRow.objects.filter(code=plan.code).values_list("current", flat=True).first()
        findings = findings_of(context(plan, known or 1, now))
    return PlanFileRead(plan=plan, problems=problems, findings=findings)


def plan_points(code: str, now: datetime) -> PlanPoints:
    """All points that the groups of a plan have at the target. Raises Refused if the target is away."""
    ctx = context(find_plan(code).version().core(), 0, now)
    site = Site.objects.get(code=ctx.plan.target)
    members = set(ctx.plan.workloads())
    found = []
    codes = ctx.planned_groups
    with needed(f"{site.name} does not say which points it holds"):
        points = points_of(site, codes)
    for group in ctx.groups:
        if group.code in points:
            held, rates = points[group.code]
            hint = clean_point_hint(held)
            found.append(
                GroupPoints(
                    group=group.code, name=group.name, rpo_s=group.policy.rpo_s, points=held, changes=rates,
                    workloads=tuple(name for name in group.members if name in members),
                    hint=hint.id if hint else None, proved=proved(group.code),
                )
            )  # fmt: skip
    return PlanPoints(now=now, groups=tuple(found))


def plan_landings(code: str, text: str, now: datetime) -> LandingsView:
    """Before and after of all members of the newest version. Raises NotFound without a crosswalk."""
    version = find_plan(code).version()
    ctx = bare_context(version.core(), version.number, now)
    if ctx.crosswalk is None:
        raise NotFound(
            f"There is no crosswalk {ctx.plan.source} to {ctx.plan.target}.",
            "Make it on the page Crosswalks.",
        )
    workloads = [workload for _, _, workload in ctx.known_members]
    asked = LandingsAsked(crosswalk=ctx.crosswalk, filter=text, limit=LONGEST_PAGE)
    return view_landings(ctx.crosswalk, workloads, ctx.landed, tuple(crosswalk_holds(ctx)), (), asked)


def preflight(row: PlanRow, chosen: RunOptions, now: datetime) -> Preflight:
    """What a run with these choices would do."""
    version = row.version()
    ctx = context(version.core(), version.number, now)
    plan = ctx.plan
    source, site = Site.objects.get(code=plan.source), Site.objects.get(code=plan.target)
    # A re-protect compiles no plan; what is in its way is asked of the groups.
    options = read_choices(ctx, replace(chosen, kind="test") if chosen.kind == "re-protect" else chosen, now)
    judged = assess_plan(ctx, options)
    if chosen.kind == "re-protect":
        judged = replace(judged, kind="re-protect", findings=reprotect_findings(ctx), forecast=None)
    judged = replace(judged, findings=at_a_start(judged.findings, chosen.kind))
    said = view(ctx, judged)
    rule = wanted_for(row.code, chosen.kind)
    return Preflight(
        approvals=rule.approvals if rule is not None else 0,
        approvers=tuple(able(APPROVE)) if rule is not None else (),
        kinds=_kinds(ctx, source.name, site.name),
        workloads=len(plan.workloads()),
        blocking=judged.blocking,
        source=source.code,
        source_name=source.name,
        target=site.code,
        target_name=site.name,
        source_lost=ctx.lost_sites.get(source.code, ""),
        # The score of the plan page is not drawn again here.
        assessment=replace(said, steps=()),
        consequences=(
            *consequences(ctx, source.name, site.name, chosen),
            *door_rules.told_before(ctx, chosen.kind, source.name, site.name),
            *name_rules.told_before(ctx, chosen.kind),
        ),
        practice=site.practice,
        usual_pace=OPTIONS.pace,
        notes=_notes(row),
        traps=traps_of_plan(ctx),
        services=services_of(ctx),
    )


def _notes(row: PlanRow) -> tuple[RunNotes, ...]:
    """What people noted in the last runs of a plan that have ended and have notes."""
    ended = Run.objects.filter(plan_code=row.code).exclude(outcome="").order_by("-pk")[:RUNS_LOOKED_AT]
    added: dict[int, list[str]] = {}
    for number, text in Addition.objects.filter(run__in=list(ended)).values_list("run_id", "text"):
        added.setdefault(number, []).append(text)
    found = []
    for run in ended:
        notes = tuple(text for text in (run.notes, *added.get(run.pk, ())) if text)
        if notes and run.ended_at is not None:
            found.append(
                RunNotes(run=run.pk, kind=run.kind, ended_at=run.ended_at, outcome=run.outcome, notes=notes)
            )
    return tuple(found[:MOST_NOTES])


def _kinds(ctx: Context, source: str, target: str) -> tuple[KindOffered, ...]:
    """Every kind of run by its consequence, with what is in its way now."""
    home = ctx.plan.source != ctx.authored.source
    found = findings_of(ctx)
    titles: dict[Kind, tuple[str, str]] = {
        "test": ("Try it out", f"in a sandbox at {target}; production is not touched"),
        "planned": (
            (f"Bring it home to {target}" if home else f"Move it to {target}"),
            f"no data loss: a final sync runs after {source} is shut down",
        ),
        "disaster": (
            f"{source} is lost",
            f"bring it up at {target} from the copies; what is newer than they are is lost",
        ),
        "re-protect": (f"Copy it to {target} again", "only what differs; services go on running"),
    }
    offered = []
    for kind, (title, sentence) in titles.items():
        said = findings_for(ctx, reprotect_findings(ctx) if kind == "re-protect" else found, kind)
        in_the_way = [one for one, severity in said if severity == "blocks"]
        why_not = f"{in_the_way[0].sentence} {in_the_way[0].mend}" if in_the_way else ""
        offered.append(KindOffered(kind=kind, title=title, sentence=sentence, why_not=why_not))
    return tuple(offered)


def findings_for(ctx: Context, findings: Sequence[Finding], kind: Kind) -> list[tuple[Finding, str]]:
    """Findings with what is only about one kind of run, and what each is for that kind."""
    return [(one, severity_in(one, kind)) for one in (*findings, *live_only(ctx, kind))]


def _forced(chosen: RunOptions) -> str:
    if chosen.force_after_s is None:
        return ""
    when = f"within {lasting(chosen.force_after_s)}" if chosen.force_after_s else "at once"
    return f" A guest that is not down {when} loses its power."


def consequences(ctx: Context, source: str, target: str, chosen: RunOptions) -> tuple[str, ...]:
    """What a run with these choices would do to production, and until when it can be taken back."""
    plan = ctx.plan
    copies, boot = len(plan.workloads()), sum(1 for _, member in plan.members() if member.power_on)
    if chosen.kind == "test":
        few = f"{len(chosen.probe)} services are" if len(chosen.probe) > 1 else "One service is"
        probed = f" {few} probed continuously until somebody judges it." if chosen.probe else ""
        first = (
            f"The latest changes are copied first; then {copies} copies are made of that moment."
            if chosen.sync_first
            else f"{copies} copies are made from the chosen points."
        )
        return (
            f"Production at {source} keeps running and keeps being copied; no step touches it.",
            f"{first} {boot} of them boot in a sandbox at {target} and reach nothing outside it.{probed}",
            "Everything can be taken back: cleanup removes every copy and network of the test.",
        )
    if chosen.kind == "re-protect":
        return (
            f"What runs at {source} goes on running; only what differs is copied to {target}.",
            f"What the old copies at {target} hold beyond that is overwritten.",
            "It can be held and goes on where it was. When it is through, there is a way back again.",
        )
    ends = {
        "nothing": "After a commit nothing is protected until you re-protect it.",
        "re-protect": f"After a commit it is copied back to {source} by itself.",
        "end-protection": "A commit ends its protection: this is a relocation, not a failover.",
    }[chosen.at_commit]
    by_itself = {"commit": "commits", "roll-back": "rolls back"}[chosen.then]
    window = (
        f"After {chosen.decide_within_s // 60} min without a word it {by_itself} by itself."
        if chosen.decide_within_s
        else "It waits for your word as long as you need."
    )
    take_back = f"Until you commit, all of it can be rolled back. {window} {ends}"
    forced = _forced(chosen)
    if chosen.kind == "planned":
        return (
            f"{copies} workloads at {source} are shut down; services stop until they are up at {target}."
            f"{forced}",
            f"What they wrote last is copied after that: nothing is lost. {boot} of them boot at {target}.",
            take_back,
        )
    closing = (
        f"{source} is shut down as far as it answers; nothing waits for it longer than a moment.{forced}"
        if chosen.close_down
        else f"{source} is not touched: make sure by other means that nothing runs there."
    )
    return (
        f"{boot} workloads boot at {target} for real, from the chosen points. Later writes are lost.",
        closing,
        take_back,
    )
