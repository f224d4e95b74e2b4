"""What the readiness board asks people to do, each with the page where it is done."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from functools import partial
from urllib.parse import quote

from maestoso.core.model.finding import Finding
from maestoso.core.people.scope import Reach
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.if_lost import IfLost
from maestoso.core.readiness.room_rules import little_room
from maestoso.core.runs.needs import needs
from maestoso.core.wording import plain
from maestoso.server.approvals import services as approvals
from maestoso.server.board.shapes import PlanRowView
from maestoso.server.declared.services import start_page, still_declared
from maestoso.server.protection.picture import overview
from maestoso.server.readiness.shapes import NextAction
from maestoso.server.readiness.surroundings import Surroundings
from maestoso.server.runs.fences import unseen
from maestoso.server.runs.models import KeptFence, Run, RunEvent
from maestoso.server.runs.states import each


def listed(names: Sequence[str]) -> str:
    """Some names in a sentence: all of a few, the first of many."""
    return " and ".join(names) if len(names) < 3 else f"{names[0]}, {names[1]} and {len(names) - 2} more"


def from_approvals(now: datetime, reach: Reach) -> list[NextAction]:
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


def from_runs() -> list[NextAction]:
    """Runs that stand still, that nobody has reviewed, or that need somebody."""
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


def from_room(rows: list[tuple[Context, PlanRowView]]) -> list[NextAction]:
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


def from_forgotten(around: Surroundings) -> list[NextAction]:
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


def from_split() -> list[NextAction]:
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


def from_failovers(rows: list[tuple[Context, PlanRowView]]) -> list[NextAction]:
    """The next sensible step until everything is home and protected; each group is spoken for once."""
    actions: list[NextAction] = []
    spoken: set[str] = set()
    for ctx, view in sorted(rows, key=lambda pair: -pair[1].workloads):
        home, groups = ctx.authored.source, frozenset(ctx.planned_groups)
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


def without_purpose(rows: Sequence[tuple[Context, PlanRowView]]) -> dict[str, NextAction]:
    """Plans whose workloads a relocation brought to where they stay, and that nobody protects since."""
    actions = {}
    for ctx, view in rows:
        if ctx.planned_groups or view.active_run:
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


def from_sites(around: Surroundings, lost: Sequence[IfLost]) -> list[NextAction]:
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


def from_declared(around: Surroundings, lost: Sequence[IfLost]) -> list[NextAction]:
    """What somebody says is down. A recovery that began after that says the rest itself."""
    known = {one.site for one in lost if one.down}
    actions = []
    for row in still_declared():
        begun = Run.objects.filter(
            source=row.site, kind="disaster", last_seq__gt=0, started_at__gte=row.said_at
        )
        if begun.exists():
            continue
        site = around.sites[row.site].name if row.site in around.sites else row.site
        plan = around.plans.get(row.plan)
        seen = "It does not answer us either." if row.site in known else "To us it answers."
        actions.append(
            NextAction(
                code="outage-declared", about=row.site, urgency="now",
                title=f"{site} is said to be down since {row.since:%H:%M} UTC",
                sentence=f"{row.by} says: {row.reason.rstrip('.')}. {seen} Nothing was started.",
                label=f"Recover {plan.name} …" if plan else "See it", to=start_page(row),
            )
        )  # fmt: skip
    return actions


def from_copies(now: datetime, reach: Reach) -> list[NextAction]:
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
_TROUBLE = {
    "lagging": "fell behind", "failing": "has failing copy cycles", "paused": "is paused",
    "in clear": "is copied in clear", "refused": "is not taken as it is defined",
}  # fmt: skip
_STALE = (
    "estate-changed-since-test", "landing-changed-since-test", "script-changed-since-test",
)  # fmt: skip
_TESTS = ("test-overdue", "never-tested", *_STALE)
_FROM_FINDINGS = ("inventory-drift", *_TESTS)


def from_plans(rows: list[tuple[Context, PlanRowView]]) -> list[NextAction]:
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
