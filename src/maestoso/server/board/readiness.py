"""The readiness board: could every plan run now, would it meet its objectives, when was that proved?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from functools import partial
from urllib.parse import quote, unquote

from maestoso.core.answer_cache import AnswerCache
from maestoso.core.landing.ground import Ground
from maestoso.core.model.finding import Finding
from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.core.planning.inputs import LIVE, Kind
from maestoso.core.readiness.assess import RECOVERY, Assessment, findings_of
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.if_lost import IfLost, Place, Way, if_lost, way_of
from maestoso.core.readiness.protection_rules import groups_in_plan
from maestoso.core.readiness.room_rules import little_room
from maestoso.core.replication.lifecycle import is_copied
from maestoso.core.runs.needs import needs
from maestoso.core.wording import plain
from maestoso.server.approvals import services as approvals
from maestoso.server.board.shapes import KindState, LastProof, PlanRowView, Readiness
from maestoso.server.board.upkeep import of_itself
from maestoso.server.drills.picture import next_actions
from maestoso.server.protection.picture import overview
from maestoso.server.readiness.judgement import assess_plan, figures, findings_for
from maestoso.server.readiness.shapes import NextAction
from maestoso.server.readiness.surroundings import Surroundings
from maestoso.server.runs.fences import unseen
from maestoso.server.runs.models import KeptFence, Run, RunEvent
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
    lost, idle = _if_lost(around, rows, reach), _without_purpose(rows)
    actions = [
        *of_itself(now), *_from_split(), *_from_forgotten(around), *_from_room(rows), *_from_runs(),
        *_from_approvals(now, reach),
        *_from_sites(around, lost),
        *_from_failovers(rows), *_from_copies(now, reach), *next_actions(now), *idle.values(),
        *_from_plans([pair for pair in rows if pair[1].code not in idle]),
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
    groups = groups_in_plan(ctx)
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


def listed(names: Sequence[str]) -> str:
    """Some names in a sentence: all of a few, the first of many."""
    return " and ".join(names) if len(names) < 3 else f"{names[0]}, {names[1]} and {len(names) - 2} more"


def _from_approvals(now: datetime, reach: Reach) -> list[NextAction]:
    """Starts that wait for a second signature."""
    return [
        NextAction(
            code="approval",
            about=str(row.pk),
            urgency="soon",
            title=f"{row.asked_by} waits for an approval" if row.deed else
            f"{row.plan_name} waits for an approval",
            sentence=f"{row.asked_by} wants to "
            f"{row.plan_name if row.deed else f'start a run of it ({row.kind})'}. "
            f"{row.answers.count()} of {row.needed} have approved.",
            label="See it", to=f"/approvals/{row.pk}",
        )
        for row in approvals.recent(reach)
        if approvals.state(row, now) == "open"
    ]  # fmt: skip


def _from_runs() -> list[NextAction]:
    actions = [
        NextAction(
            code="run-put-aside", about=str(run.pk), urgency="now",
            title=f"{run.plan_name} stands still: the engine put aside run {run.pk}",
            sentence=f"{run.put_aside} Nothing of it goes on until somebody has it tried again.",
            label="See it", to=f"/runs/{run.pk}",
        )
        for run in Run.objects.filter(outcome="").exclude(put_aside="")
    ]  # fmt: skip
    actions += [
        NextAction(
            code="emergency-unreviewed", about=str(run.pk), urgency="soon",
            title=f"Run {run.pk} was started as an emergency and nobody has reviewed it",
            sentence=f"{run.started_by} started {run.plan_name} without approvals: {run.emergency}",
            label="Review it", to=f"/runs/{run.pk}",
        )
        for run in Run.objects.exclude(emergency="").filter(reviewed_by="")
    ]  # fmt: skip
    for run, state in each(Run.objects.filter(outcome="", last_seq__gt=0)):
        for need in needs(state):
            label = {"verdict": "Judge it", "hold": "Answer", "acknowledge": "Answer", "decision": "Decide"}
            actions.append(
                NextAction(
                    code="run-needs",
                    about=f"{run.pk}/{need.kind}/{need.step}",
                    urgency="now",
                    title=f"{run.plan_name}: {need.title[0].lower()}{need.title[1:]}",
                    sentence=plain(need.text),
                    label=label.get(need.kind, "See it"),
                    to=f"/runs/{run.pk}",
                )
            )
    return actions


def _from_room(rows: list[tuple[Context, PlanRowView]]) -> list[NextAction]:
    """Every plan has the same finding; it is said once."""
    for ctx, view in rows:
        for finding in little_room(ctx):
            return [
                NextAction(
                    code="little-room",
                    urgency="now",
                    title="Room for records runs out",
                    sentence=f"{finding.sentence} {finding.mend}",
                    label="See what it stops",
                    to=f"/plans/{quote(view.code)}",
                )
            ]
    return []


def _from_forgotten(around: Surroundings) -> list[NextAction]:
    """Sites whose agents lost their memory, until somebody looked."""
    return [
        NextAction(
            code="agent-forgot",
            about=site.code,
            urgency="now",
            title=f"The agent of {site.name} has lost its memory",
            sentence=f"It was restored from an older state, as was found at {site.forgot_at:%H:%M} UTC. What "
            "it has not confirmed is being asked for again, and so are fences. Compare what runs there.",
            label="See the site",
            to="/estate/sites",
        )
        for site in around.sites.values()
        if site.forgot_at is not None
    ]


def _from_split() -> list[NextAction]:
    """Two live copies of a workload: nothing is more urgent."""
    found: dict[int, list[KeptFence]] = {}
    for kept in unseen():
        found.setdefault(kept.run_id, []).append(kept)
    return [
        NextAction(
            code="ran-twice",
            about=str(run),
            urgency="now",
            title=f"{listed([kept.workload for kept in fences])} ran at {fences[0].site.name} as well",
            sentence="It was turned off and fenced. What it wrote meanwhile is on no other copy: look at it.",
            label="See the run",
            to=f"/runs/{run}",
        )
        for run, fences in found.items()
    ]


def _from_failovers(rows: list[tuple[Context, PlanRowView]]) -> list[NextAction]:
    """The next sensible step until everything is home and protected; each group is spoken for once."""
    actions: list[NextAction] = []
    spoken: set[str] = set()
    for ctx, view in sorted(rows, key=lambda pair: -pair[1].workloads):
        home, groups = ctx.authored.source, frozenset(groups_in_plan(ctx))
        if ctx.plan.source == home or not groups - spoken or view.active_run is not None:
            continue
        spoken |= groups
        stages = {ctx.stages.get(code, "") for code in groups}
        start = f"/plans/{quote(view.code)}/start"
        if "running committed" in stages:
            why = f" {home} must answer first." if home in ctx.lost_sites else ""
            actions.append(
                NextAction(
                    code="without-protection",
                    about=view.code,
                    urgency="now",
                    title=f"{view.name} runs at {ctx.plan.source} without protection",
                    sentence=f"Copy what differs back to {home}, so that there is a way home.{why}",
                    label="Re-protect",
                    to=f"{start}?kind=re-protect",
                )
            )
        elif stages == {"protected"}:
            actions.append(
                NextAction(
                    code="away-from-home",
                    about=view.code,
                    urgency="soon",
                    title=f"{view.name} runs away from home, at {ctx.plan.source}",
                    sentence=f"It is copied to {home}. Bring it home when it suits you; nothing is lost.",
                    label="Bring it home",
                    to=f"{start}?kind=planned",
                )
            )
    return actions


def _without_purpose(rows: Sequence[tuple[Context, PlanRowView]]) -> dict[str, NextAction]:
    """Plans whose workloads a relocation brought to where they stay, and that nobody protects since."""
    actions = {}
    for ctx, view in rows:
        if groups_in_plan(ctx) or view.active_run:
            continue
        last = Run.objects.filter(plan_code=view.code, outcome="committed").first()
        if last is None or not _ended_protection(last):
            continue
        actions[view.code] = NextAction(
            code="without-purpose",
            about=view.code,
            urgency="sometime",
            title=f"{view.name} has no purpose any more",
            sentence=f"Run {last.pk} relocated its workloads to {last.target} and ended their protection. "
            "Retire it (it can be brought back), or protect them and keep it.",
            label="Retire it",
            to=f"/plans/{quote(view.code)}?retire=1",
        )
    return actions


def _ended_protection(run: Run) -> bool:
    began = RunEvent.objects.filter(run=run, seq=1).values_list("data", flat=True).first()
    live = began["inputs"].get("live") if began else None
    return live is not None and bool(live["at_commit"] == "end-protection")


def _from_sites(around: Surroundings, lost: Sequence[IfLost]) -> list[NextAction]:
    """A site that is down: what to do about it, the right plan first."""
    actions = []
    for one in lost:
        because = around.pulse(one.site).lost_because
        if not one.down or because is None:
            continue
        name = around.sites[one.site].name
        run = Run.objects.filter(source=one.site, kind="disaster", outcome="", last_seq__gt=0).first()
        told = partial(
            NextAction, code="site-lost", about=one.site, urgency="now", title=f"{name} does not answer"
        )
        if run is not None:
            said = f"{because} {run.plan_name} is being recovered by run {run.pk}."
            actions.append(told(sentence=said, label="See the run", to=f"/runs/{run.pk}"))
        elif one.plans:
            plan = around.plans[one.plans[0]]
            said = f"{because} If it is lost and not only its agent, bring {plan.name} up elsewhere."
            to = f"/plans/{quote(plan.code)}/start?kind=disaster"
            actions.append(told(sentence=said, label=f"Recover {plan.name}", to=to))
        else:
            said = f"{because} Nothing can be tested or recovered there until it does."
            actions.append(told(sentence=said, label="See its runs", to="/runs"))
    return actions


def _from_copies(now: datetime, reach: Reach) -> list[NextAction]:
    """A cause once for all its groups, then groups in trouble of their own, then what nobody protects."""
    seen = overview(now, reach=reach)
    actions = [
        NextAction(
            code="link-cut", about=cause.cause, urgency="now", title="Nothing is copied over a link",
            sentence=cause.sentence,
            label="See the groups", to="/protection",
        )
        for cause in seen.causes
        if not cause.cause.endswith(AWAY)
    ]  # fmt: skip
    for group in seen.groups:
        if group.health.condition in _TROUBLE and not group.health.cause:
            actions.append(
                NextAction(
                    code="group-trouble", about=group.code, urgency="soon",
                    title=f"{group.name} {_TROUBLE[group.health.condition]}",
                    sentence=group.health.sentence, label="See the group", to=f"/protection/{group.code}",
                )
            )  # fmt: skip
    bare = [gap for gap in seen.gaps if not gap.group]
    for gap in bare:
        if gap.needed_by:
            users = " and ".join(gap.needed_by[:2]) + (" and others" if len(gap.needed_by) > 2 else "")
            actions.append(
                NextAction(
                    code="needed-unprotected", about=gap.workload, urgency="soon",
                    title=f"{gap.workload} is needed and not protected",
                    sentence=f"{users} use it and would come up without it.",
                    label="Protect it", to=f"/protection/new?members={quote(gap.workload)}",
                )
            )  # fmt: skip
    rest = seen.workloads - seen.protected - sum(1 for gap in bare if gap.needed_by)
    if rest:
        actions.append(
            NextAction(
                code="unprotected", urgency="sometime", title=f"{rest} more workloads are in no group",
                sentence="Nothing that is protected needs them. They would be lost with their site.",
                label="See them", to="/estate?filter=-protected",
            )
        )  # fmt: skip
    return actions


AWAY = "does not answer"
_TROUBLE = {"lagging": "fell behind", "failing": "has failing copy cycles", "paused": "is paused"}
_STALE = (
    "estate-changed-since-test", "landing-changed-since-test", "script-changed-since-test",
)  # fmt: skip
_TESTS = ("test-overdue", "never-tested", *_STALE)
_FROM_FINDINGS = ("inventory-drift", *_TESTS)


def _from_plans(rows: list[tuple[Context, PlanRowView]]) -> list[NextAction]:
    """One action per finding, the plan with the fewest workloads speaking for what several plans share."""
    actions: dict[tuple[str, str], NextAction] = {}
    for _, view in sorted(rows, key=lambda pair: pair[1].workloads):
        blocking = [finding for finding in view.findings if finding.severity == "blocks"]
        if blocking and not _said_elsewhere(blocking):
            first = blocking[0]
            actions[("blocked", view.code)] = NextAction(
                code="plan-blocked",
                about=view.code,
                urgency="soon",
                title=f"{view.name} cannot run now",
                sentence=f"{first.sentence} {first.mend}",
                label="Mend it",
                to=f"/plans/{view.code}",
            )
        testable = not any(kind.kind == "test" and kind.blocking for kind in view.kinds)
        for finding in view.findings:
            if finding.code in _FROM_FINDINGS and view.active_run is None:
                if finding.code in _TESTS and not testable:
                    # What keeps it from a test has an action of its own; that comes first.
                    continue
                # What makes a proof stale is one thing to do, however many reasons there are.
                kind = "stale" if finding.code in _STALE else finding.code
                actions.setdefault((kind, finding.subject), _action(kind, finding, view))
    return list(actions.values())


def _said_elsewhere(blocking: list[Finding]) -> bool:
    """A site that is away, and groups that are on their way, have actions of their own."""
    return any(
        finding.code in ("site-unreachable", "group-not-protected", "split-brain", "run-in-the-way")
        for finding in blocking
    )


_NEVER = "Nobody has proved yet that it works. A test leaves production alone."


def _sentence(finding: Finding, tests: bool) -> str:
    """The button says what to do about a test; for the rest the mend does."""
    if finding.code == "never-tested":
        return _NEVER
    return finding.sentence if tests else f"{finding.sentence} {finding.mend}"


def _action(kind: str, finding: Finding, view: PlanRowView) -> NextAction:
    tests = finding.code in _TESTS
    titles = {
        "inventory-drift": f"{finding.subject} is not what the records say",
        "test-overdue": f"{view.name} is overdue for a test",
        "never-tested": f"{view.name} was never tested",
    }
    return NextAction(
        code=f"proof-{kind}" if tests else kind,
        about=view.code if tests else finding.subject,
        urgency="sometime" if tests else "soon",
        title=titles.get(finding.code, f"The proof of {view.name} is stale"),
        sentence=_sentence(finding, tests),
        label="Start a test" if tests else "Look at it",
        to=f"/plans/{quote(view.code)}/start" if tests else "/estate/sites",
    )
