"""Looking ahead: what would help, what if, how good the forecasts were, and rehearsals in virtual time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from functools import lru_cache

from maestoso.core.errors import BadValue, Refused
from maestoso.core.forecast.calibration import Compared, compare, in_words
from maestoso.core.forecast.helps import helps
from maestoso.core.forecast.monte_carlo import Forecast
from maestoso.core.model.estate import Inventory
from maestoso.core.planning.compiled import compile_run
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.readiness.assess import Assessment, Options
from maestoso.core.readiness.context import Context
from maestoso.core.replication.change import ChangeProfile, derived_usual_bps
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState
from maestoso.core.runs.words import sentence
from maestoso.core.score import run_score
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.spec import Fault, Replica, SiteSpec
from maestoso.practice.world import World
from maestoso.server.estate.models import Link
from maestoso.server.plans.services import find_plan
from maestoso.server.readiness.judgement import assess_plan, assess_recovery
from maestoso.server.readiness.shapes import Calibration, ComparedRun, Helps, RehearsalAsked, RehearsalView
from maestoso.server.readiness.shapes import Draft as PlanDraft
from maestoso.server.readiness.surroundings import context
from maestoso.server.runs.events import read_log
from maestoso.server.runs.models import Run

RUNS_COMPARED = 12
Tell = Callable[[int, int], None]
"""Hears how much of how much is done; what it raises ends the work."""
MOST_EVENTS = 60_000
PERSON = "rehearsal"
HOLD_S, JUDGE_S, RETRY_S = 60.0, 60.0, 30.0
TWICE = "It failed twice in the rehearsal."
REASON = "The rehearsal was asked to let this go wrong."


def what_helps(code: str, draft: PlanDraft, now: datetime, tell: Tell) -> Helps:
    """The changes that would save most time. Raises Refused where the draft cannot be forecast."""
    ctx = context(draft.plan, find_plan(code).current, now)
    inputs, made = _forecast(assess_recovery(ctx, whole=True))
    return Helps(helps=helps(ctx.authored, inputs, made, compile_run, tell=tell))


def _forecast(judged: Assessment) -> tuple[RunInputs, Forecast]:
    if judged.inputs is None or judged.forecast is None:
        first = judged.findings[0]
        raise Refused(f"The draft could not run as it stands: {first.sentence}", first.mend, code=first.code)
    return judged.inputs, judged.forecast


def calibration(code: str) -> Calibration:
    """How the newest runs of a plan compared to their forecasts, newest first."""
    row = find_plan(code)
    compared = []
    kept = Run.objects.filter(plan_code=row.code, ready_s__isnull=False, removed_at=None)
    for run in kept.exclude(outcome="")[:RUNS_COMPARED]:
        made = _compared(run.pk, run.chain_head)
        if made is not None and not run.aborted:
            compared.append((run, made))
    return Calibration(
        sentence=in_words([made for _, made in compared]),
        runs=tuple(
            ComparedRun(
                run=run.pk, started_at=run.started_at, outcome=run.outcome, p10_s=made.p10_s,
                p50_s=made.p50_s, p80_s=made.p80_s, p95_s=made.p95_s, took_s=made.took_s, inside=made.inside,
            )
            for run, made in compared
        ),
    )  # fmt: skip


@lru_cache(maxsize=200)
def _compared(pk: int, head: str) -> Compared | None:
    """A finished log never changes, so it is read once."""
    return compare(read_log(pk))


# --- rehearsal ---


def rehearse(code: str, asked: RehearsalAsked, now: datetime, tell: Tell) -> RehearsalView:
    """Play a draft through the engine's rules and a practice world in virtual time. Nothing is touched."""
    ctx = context(asked.plan, find_plan(code).current, now)
    world = _world(ctx, now)
    newest = {group: world.points(group)[-1] for group in world.replication.copying if world.points(group)}
    ctx = replace(ctx, newest=newest)
    inputs, _ = _forecast(assess_plan(ctx, Options(points={}), mark="r0", whole=True))
    for fault in _faults(asked, ctx):
        world.add_fault(fault, world.now)
    played = Rehearsal("rehearsal", inputs, {inputs.plan.target: world}, now, PERSON)
    state = played.play(_person, MOST_EVENTS, tell)
    failures = [event for event in played.log if event.kind == "step.failed"]
    return RehearsalView(
        sentence=_said(ctx, state, len(failures)),
        outcome=state.outcome or "",
        ready_s=state.ready_s,
        ended_s=state.run_s,
        people_s=state.people_s,
        objective_s=ctx.plan.rto_s,
        steps=run_score(state, played.now),
        waves=tuple(wave.name for wave in ctx.plan.waves),
        log=tuple(sentence(event, state.graph) for event in played.log if event.kind != "step.asked"),
        failures=tuple(sentence(event, state.graph) for event in failures),
        remains=tuple(world.remains("r0")),
    )


def _world(ctx: Context, now: datetime) -> World:
    """The target as the records know it, with the copies that it would hold."""
    known = ctx.workloads
    replicas = tuple(
        Replica(
            group=group,
            profile=ChangeProfile(
                usual_bps=sum(derived_usual_bps(known[n]) for n in group.members if n in known)
            ),
        )
        for group in ctx.groups
        if group.target == ctx.plan.target
    )
    copied = tuple(known[name] for one in replicas for name in one.group.members if name in known)
    begin = now - timedelta(hours=26)
    spec = SiteSpec(
        code=ctx.plan.target, seed=1, inventory=ctx.target, replicas=replicas,
        copied=Inventory(workloads=copied),
        links=tuple(link.core() for link in Link.objects.select_related("one", "other")),
    )  # fmt: skip
    world = World(spec, begin, past=False)
    world.advance(now.timestamp())
    return world


def _faults(asked: RehearsalAsked, ctx: Context) -> list[Fault]:
    """What is to go wrong, in the words of the practice site."""
    if asked.fault == "none":
        return []
    if asked.fault in ("site-slow", "sandbox-leaks"):
        return _site_faults(asked.fault)
    members = {member.workload: member for _, member in ctx.plan.members()}
    if asked.subject not in members:
        raise BadValue(
            f"{asked.subject[:60]!r} is not in the plan.",
            "Name one of its workloads.",
            field="body.subject",
        )
    copies = f"{asked.subject}--*"
    made = {
        "boot-hangs": Fault(verb="power-on", subject=copies, effect="boot-hangs", times=1),
        "never-boots": Fault(verb="power-on", subject=copies, effect="boot-hangs", times=None),
        "boot-slow": Fault(verb="power-on", subject=copies, effect="slow", factor=12, times=None),
        "clone-fails": Fault(
            verb="clone-point", subject=copies, effect="fail", code="storage-busy", reason=REASON
        ),
        "service-silent": Fault(
            verb="probe-service", subject=copies, effect="fail", code="no-answer", reason=REASON
        ),
        "script-fails": Fault(verb="run-script", subject="*", effect="exits", exit_code=1, reason=REASON),
    }
    return [made[asked.fault]]


def _site_faults(fault: str) -> list[Fault]:
    if fault == "sandbox-leaks":
        return [Fault(verb="make-sandbox", effect="leak", times=1)]
    verbs = ("clone-point", "register", "attach-nics", "power-on", "probe-service", "make-sandbox")
    return [Fault(verb=verb, effect="slow", factor=3.0, times=None) for verb in verbs]


def _person(state: RunState) -> tuple[Draft, float] | None:
    """Tries what failed once more, then leaves it out or gives up; answers holds; judges by what is up."""
    for step in sorted(state.failed):
        if state.steps[step].attempt < 2:
            return Draft(kind="step.retried", data={"step": step}, by=PERSON), RETRY_S
        if state.graph[step].skippable:
            return Draft(kind="step.skipped", data={"step": step, "reason": TWICE}, by=PERSON), RETRY_S
        if state.aborted_because is None:
            return Draft(kind="run.aborted", data={"reason": "It failed twice."}, by=PERSON), RETRY_S
    if state.held_because is not None:
        return Draft(kind="run.resumed", data={}, by=PERSON), RETRY_S
    holds = sorted(name for name in state.persons if state.graph[name].verb == "hold")
    if holds:
        return Draft(kind="hold.answered", data={"step": holds[0], "text": ""}, by=PERSON), HOLD_S
    if state.persons:
        verdict = "failed" if _left_out(state) else "passed"
        return Draft(kind="verdict.given", data={"verdict": verdict, "notes": ""}, by=PERSON), JUDGE_S
    return None


def _said(ctx: Context, state: RunState, failures: int) -> str:
    if state.outcome == "aborted":
        return f"{ctx.plan.name} was given up in the rehearsal and cleaned up: {state.aborted_because}"
    if state.ready_s is None:
        return f"The rehearsal of {ctx.plan.name} did not come to its end."
    late_s = state.ready_s - ctx.plan.rto_s
    than = "past" if late_s > 0 else "inside"
    first = (
        f"{ctx.plan.name} was up after {_spoken(state.ready_s)}, {_spoken(abs(late_s))} {than} its objective"
    )
    if not failures:
        return f"{first}; nothing failed."
    tries = f"{failures} step{'' if failures == 1 else 's'} failed on the way"
    left = len(_left_out(state))
    return f"{first}; {tries}" + (f" and {left} had to be left out." if left else ".")


def _left_out(state: RunState) -> list[str]:
    """Steps that the person gave up on; where the plan says to go on, that was meant."""
    return [name for name, one in state.steps.items() if one.status == "skipped" and one.reason == TWICE]


def _spoken(seconds: float) -> str:
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s" if minutes else f"{rest} s"
