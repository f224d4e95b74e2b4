"""Starting runs: judged before anything is locked, and refused where the records changed meanwhile."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime

from django.contrib.auth.models import User
from django.db import IntegrityError

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, Refused
from maestoso.core.evidence.chain import ROOT
from maestoso.core.forecast.durations import estimates
from maestoso.core.model.finding import Finding
from maestoso.core.model.plan import Plan
from maestoso.core.people.roles import ROLE
from maestoso.core.planning.compiled import compile_run
from maestoso.core.planning.inputs import LIVE, GroupCopy, Kind, RunInputs
from maestoso.core.ports import Clock
from maestoso.core.readiness.assess import Assessment, Options, assess
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.live_rules import reprotect_findings
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState
from maestoso.engine.clock import SystemClock
from maestoso.server.access.holders import holders, people_meant
from maestoso.server.access.roles import known_roles
from maestoso.server.approvals import services as approvals
from maestoso.server.audit.record import recorded
from maestoso.server.common.deadlocks import retry_deadlocks
from maestoso.server.common.news import announce
from maestoso.server.estate.agents import forget_pulse
from maestoso.server.estate.models import Link, Site
from maestoso.server.evidence.register import next_number
from maestoso.server.evidence.services import seal_ended
from maestoso.server.names.services import read_names
from maestoso.server.plans.models import PlanRow
from maestoso.server.plans.services import find_plan
from maestoso.server.readiness.choices import read_choices
from maestoso.server.readiness.shapes import RunOptions, StartRun
from maestoso.server.readiness.surroundings import as_of, context
from maestoso.server.runs.events import inputs_of, read_log
from maestoso.server.runs.log import write_events
from maestoso.server.runs.measured import measured
from maestoso.server.runs.models import Run, RunStep
from maestoso.server.runs.projection import write_steps
from maestoso.server.runs.services import check_key

CLOCK = SystemClock()
log = logging.getLogger("maestoso.runs")

LONGEST_REASON = 500


MOST_TOLD = 50


MOST_JUDGED = 3
"""How often a start is judged whose records change meanwhile."""


UNNUMBERED = "new"
"""The mark of a run that is judged before it has a number."""


class ChangedMeanwhile(Refused):
    """The records are not any more what a run was judged by."""

    code = "changed-meanwhile"


def start_run(
    wanted: StartRun, *, by: str, key: str, at: datetime, allow: Callable[[str], None] = lambda kind: None
) -> Run:
    """Start a run of the newest version of a plan; ``allow`` raises where its kind may not be started.

    The same ``key`` (Idempotency-Key) starts it once, however often it is sent. Raises Refused when a
    finding blocks, with the findings, or when a workload is in another run; BadValue where a run that moves
    production is not confirmed by the code of its plan.
    """
    check_key(key)
    try:
        return _begun_by(key) or _start_run(wanted, by=by, key=key, at=at, allow=allow)
    except (IntegrityError, Refused):
        # The same key may have come twice at once: then what is in the way is the run that it was to start.
        begun = _begun_by(key)
        if begun is None:
            raise
        return begun


def _begun_by(key: str) -> Run | None:
    return Run.objects.filter(request_key=key).first()


def _start_run(wanted: StartRun, *, by: str, key: str, at: datetime, allow: Callable[[str], None]) -> Run:
    row = find_plan(wanted.plan)
    granted = approvals.granted(wanted.approval, row.code, row.current, at) if wanted.approval else None
    if granted is not None:
        wanted = replace(wanted, options=from_data(RunOptions, granted.row.options))
    kind = wanted.options.kind
    allow(kind)
    if kind in LIVE and wanted.confirm.strip() != row.code:
        raise BadValue(
            f"A {kind} run moves production; {wanted.confirm[:20]!r} is not the code of this plan.",
            f"Type {row.code} to confirm it.",
            field="body.confirm",
        )
    reason = wanted.reason.strip()
    if len(reason) > LONGEST_REASON:
        raise BadValue(
            "The reason is too long.", f"Give up to {LONGEST_REASON} characters.", field="body.reason"
        )
    tell = _people_meant(wanted.options.tell)
    plan = row.version().core()
    # What is remembered of a large site may be from a minute ago: a run begins with what is so now.
    for site in Site.objects.filter(code__in=(plan.source, plan.target)):
        forget_pulse(site)
    if kind in LIVE:
        read_names(_names_in(plan), CLOCK)
    opening = Opening(reason=reason, tell=tell, granted=granted)
    if granted is None:
        opening = _unsigned(wanted, opening, by)
    for tries_left in reversed(range(MOST_JUDGED)):
        try:
            return _judged_and_begun(row, wanted, opening, by=by, at=at, key=key)
        except ChangedMeanwhile:
            # Most often another run that begins, with which this one has nothing to do: it is judged anew.
            if not tries_left:
                raise
    raise AssertionError("the last try returns or raises")


def _names_in(plan: Plan) -> set[str]:
    """All names that cues of a plan lead elsewhere."""
    cues = (cue for _, _, cue in plan.placed_cues())
    return {record.name for cue in cues if cue.names for record in cue.names.records}


def _unsigned(wanted: StartRun, opening: Opening, by: str) -> Opening:
    """A start without signatures: it needs none, or it is an emergency, of which everybody is told."""
    rule = approvals.wanted_for(wanted.plan, wanted.options.kind)
    if rule is None:
        return opening
    if wanted.options.kind != "disaster" or not wanted.emergency.strip():
        raise approvals.refuse_unsigned(wanted.plan, KIND_NAMES[wanted.options.kind], rule, by)
    everybody = User.objects.filter(is_active=True).order_by("pk").values_list("username", flat=True)
    told = tuple(everybody[:MOST_TOLD])
    return replace(opening, emergency=approvals.check_emergency(wanted.emergency), tell=told)


@retry_deadlocks
def _judged_and_begun(
    row: PlanRow, wanted: StartRun, opening: Opening, *, by: str, at: datetime, key: str
) -> Run:
    version = row.version()
    ctx = context(version.core(), version.number, at)
    if wanted.options.kind == "re-protect":
        return reprotect(ctx, pace=wanted.options.pace, by=by, at=at, key=key, opening=opening)
    options = read_choices(ctx, wanted.options, at)
    return create_run(ctx, options, by=by, at=at, key=key, opening=opening)


def _people_meant(named: tuple[str, ...]) -> tuple[str, ...]:
    """Those that are named, and whoever has a role now that is."""
    nobody = {f"{ROLE}{code}": () for code in known_roles()}
    names = people_meant(named, {**nobody, **holders()})
    known = set(User.objects.filter(is_active=True).values_list("username", flat=True))
    unknown = [name for name in names if name not in known]
    if unknown or len(names) > MOST_TOLD:
        raise BadValue(
            f"Nobody here is called {unknown[0][:40]!r}." if unknown else "Too many people would be told.",
            f"Name up to {MOST_TOLD} people who can sign in, or roles such as role:conductor.",
            field="body.options.tell",
        )
    return names


@dataclass(frozen=True, slots=True, kw_only=True)
class Opening:
    """What is said with a start: why in spite of warnings, who is told of the run, and who signed it, or why
    nobody did."""

    reason: str = ""
    tell: tuple[str, ...] = ()
    granted: approvals.Granted | None = None
    emergency: str = ""


def create_run(
    ctx: Context,
    options: Options,
    *,
    by: str,
    at: datetime,
    key: str | None = None,
    opening: Opening | None = None,
) -> Run:
    """Write a run's row, steps and first event; the engine finds it there.

    It is judged before anything is locked, and refused if the records were changed meanwhile.
    """
    _refuse_overlap(ctx)
    judged = assess(ctx, options, UNNUMBERED, measured(ctx.plan.target))
    inputs = _allowed(judged)
    with recorded():
        run = _row(ctx, options.kind, by=by, at=at, key=key)
        return _begin(run, inputs, judged.findings, by=by, at=at, opening=opening)


def reprotect(
    ctx: Context,
    *,
    pace: int,
    by: str,
    at: datetime,
    key: str | None = None,
    opening: Opening | None = None,
) -> Run:
    """Start copying what was failed over and committed in the other direction."""
    blocking = reprotect_findings(ctx)
    if blocking:
        raise _refused("The re-protect cannot start", blocking)
    wanted = [code for code in ctx.planned_groups if ctx.stages.get(code) == "running committed"]
    groups = {group.code: group for group in ctx.groups}
    ends = (ctx.plan.source, ctx.plan.target)
    links = [link.core() for link in Link.objects.filter(one__code__in=ends, other__code__in=ends)]
    members = [name for code in wanted for name in groups[code].members]
    inputs = RunInputs(
        kind="re-protect",
        plan=ctx.plan,
        plan_version=ctx.version,
        mark=UNNUMBERED,
        workloads=tuple(ctx.workloads[name] for name in members),
        landings=(),
        groups=tuple(
            GroupCopy(code=code, members=groups[code].members, point=None, definition=groups[code])
            for code in wanted
        ),
        limits=ctx.target.limits,
        pace=float(pace),
        link=links[0] if links else None,
    )
    with recorded():
        run = _row(ctx, "re-protect", by=by, at=at, key=key)
        return _begin(run, inputs, blocking, by=by, at=at, opening=opening)


def _row(ctx: Context, kind: Kind, *, by: str, at: datetime, key: str | None) -> Run:
    # The locks keep two starts from each overlooking the other.
    list(Site.objects.select_for_update().order_by("pk").values_list("pk"))
    _refuse_overlap(ctx)
    if ctx.as_of != as_of():
        raise ChangedMeanwhile(
            "The estate, a crosswalk or a plan was changed while the run was being started.",
            "Look at what will happen now, then start it.",
        )
    return Run.objects.create(
        id=next_number(),
        plan_code=ctx.plan.code,
        plan_name=ctx.plan.name,
        plan_version=ctx.version,
        kind=kind,
        source=ctx.plan.source,
        target=ctx.plan.target,
        started_by=by,
        started_at=at,
        request_key=key,
        rto_objective_s=ctx.plan.rto_s,
        chain_head=ROOT,
    )


def _begin(
    run: Run,
    inputs: RunInputs,
    findings: tuple[Finding, ...],
    *,
    by: str,
    at: datetime,
    opening: Opening | None = None,
) -> Run:
    """The first event holds what the run is compiled from, and what its report says of its beginning."""
    opening = opening or Opening()
    # Steps are named after the number of their run.
    inputs = replace(inputs, mark=f"{run.kind[0]}{run.pk}")
    steps, known = compile_run(inputs).steps, {workload.name: workload for workload in inputs.workloads}
    inputs = replace(inputs, estimates=estimates(steps, known, measured(run.target)))
    run.tell = list(opening.tell)
    run.emergency = opening.emergency
    run.save(update_fields=["tell", "emergency"])
    signed = opening.granted.answers if opening.granted is not None else ()
    if opening.granted is not None:
        approvals.use(opening.granted, run.pk)
    names = dict(Site.objects.filter(code__in=(run.source, run.target)).values_list("code", "name"))
    said = {
        "inputs": to_data(inputs), "findings": to_data(findings), "sites": names,
        "reason": opening.reason, "tell": run.tell,
        "approvals": [{"by": one.by, "at": one.at.isoformat(), "text": one.text} for one in signed],
        "emergency": opening.emergency,
    }  # fmt: skip
    first = Event(seq=1, at=at, run_s=0.0, kind="run.started", data=said, by=by)
    state = RunState(first)
    RunStep.objects.bulk_create(
        RunStep(run=run, step=s.id, verb=s.verb, phase=s.phase, workload=s.workload or "")
        for s in state.graph.steps
    )
    write_events(run, [first], fence=0)
    announce()
    return run


def _allowed(judged: Assessment) -> RunInputs:
    if judged.blocking or judged.inputs is None:
        raise _refused(f"The {KIND_NAMES[judged.kind]} cannot start", judged.blocking or judged.findings)
    return judged.inputs


KIND_NAMES: dict[Kind, str] = {
    "test": "test",
    "planned": "planned failover",
    "disaster": "disaster failover",
    "re-protect": "re-protect",
}


def _refused(what: str, blocking: tuple[Finding, ...]) -> Refused:
    error = Refused(f"{what}: {blocking[0].sentence}", blocking[0].mend, code="preflight-blocks")
    error.more = {"findings": to_data(blocking)}
    return error


def _refuse_overlap(ctx: Context) -> None:
    wanted = set(ctx.plan.workloads())
    for run in Run.objects.filter(outcome="", last_seq__gt=0):
        shared = wanted & set(run.steps.values_list("workload", flat=True))
        if shared:
            names = ", ".join(sorted(shared)[:3])
            raise Refused(
                f"Run {run.pk} of {run.plan_name} is still at work with {names}.",
                "Wait until it has ended, or abort it.",
                code="run-in-the-way",
            )


def follow_ups(clock: Clock) -> None:
    """Start the re-protects that commits asked for, once both sites answer."""
    for run in Run.objects.exclude(follow_up="").order_by("pk"):
        row = PlanRow.objects.filter(code=run.plan_code).first()
        try:
            if row is not None:
                version, now = row.version(), clock.now()
                ctx = context(version.core(), version.number, now)
                if not reprotect_findings(ctx):
                    pace = int(inputs_of(run).pace)
                    reprotect(ctx, pace=pace, by=run.started_by, at=now, key=f"after-{run.pk}")
                elif set(ctx.lost_sites) & {run.source, run.target}:
                    continue
        except Refused as error:
            log.warning("The re-protect after run %d waits: %s", run.pk, error.sentence)
            continue
        Run.objects.filter(pk=run.pk).update(follow_up="")


Play = Callable[[RunInputs, datetime], list[Event]]


def record_played_run(ctx: Context, options: Options, *, by: str, at: datetime, play: Play) -> Run:
    """Keep a run that was played in virtual time: the same rows through the same writer."""
    run = create_run(ctx, options, by=by, at=at)
    first = read_log(run.pk)[0]
    state = RunState(first)
    events = play(state.inputs, at)
    with recorded():
        locked = Run.objects.select_for_update().get(pk=run.pk)
        write_events(locked, events[1:], fence=1)
    if locked.outcome:
        write_steps(locked.pk)
        seal_ended(locked, locked.ended_at or at)
        locked.refresh_from_db()
    return locked
