"""What can be done with runs: one function a verb."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime

from django.db import IntegrityError, transaction

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.evidence.chain import ROOT
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.readiness.assess import Assessment, Options, assess
from maestoso.core.readiness.context import Context
from maestoso.core.runs.controls import control
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState, fold
from maestoso.server.estate.models import Site
from maestoso.server.plans import judgement
from maestoso.server.plans.services import context, find_plan, measured
from maestoso.server.plans.shapes import TestOptions
from maestoso.server.runs.log import read_log, write_events
from maestoso.server.runs.models import Run, RunEvent, RunStep
from maestoso.server.runs.shapes import Control, StartTest

LONGEST_KEY = 100


def find_run(pk: int) -> Run:
    """The run of that number. Raises NotFound."""
    run = Run.objects.filter(pk=pk).first()
    if run is None:
        raise NotFound(f"There is no run {pk}.", "See the list of runs.")
    return run


def start_test(wanted: StartTest, *, by: str, key: str, at: datetime) -> Run:
    """Start a test of the newest version of a plan.

    The same ``key`` (Idempotency-Key) starts it once, however often it is sent. Raises Refused when a
    finding blocks, with the findings, or when a workload is in another run.
    """
    _check_key(key)
    known = Run.objects.filter(request_key=key).first()
    if known is not None:
        return known
    version = find_plan(wanted.plan).version()
    ctx = context(version.core(), version.number, at)
    chosen = TestOptions(
        points=wanted.points,
        sync_first=wanted.sync_first,
        pace=wanted.pace,
        cleanup_after_s=wanted.cleanup_after_s,
    )
    options = judgement.read_options(ctx, chosen, at)
    try:
        return create_run(ctx, options, by=by, at=at, key=key)
    except IntegrityError:
        # The same key arrived twice at once; the other one was first.
        return Run.objects.get(request_key=key)


@transaction.atomic
def create_run(ctx: Context, options: Options, *, by: str, at: datetime, key: str | None = None) -> Run:
    """Write a run's row, steps and first event; the engine finds it there."""
    # The lock keeps two starts at one site from each overlooking the other.
    Site.objects.select_for_update().get(code=ctx.plan.target)
    _refuse_overlap(ctx)
    run = Run.objects.create(
        plan_code=ctx.plan.code,
        plan_name=ctx.plan.name,
        plan_version=ctx.version,
        kind="test",
        source=ctx.plan.source,
        target=ctx.plan.target,
        started_by=by,
        started_at=at,
        request_key=key,
        rto_objective_s=ctx.plan.rto_s,
        chain_head=ROOT,
    )
    judged = assess(ctx, options, f"t{run.pk}", measured(ctx.plan.target))
    inputs = _allowed(judged)
    first = Event(seq=1, at=at, run_s=0.0, kind="run.started", data={"inputs": to_data(inputs)}, by=by)
    state = RunState(first)
    RunStep.objects.bulk_create(
        RunStep(run=run, step=s.id, verb=s.verb, phase=s.phase, workload=s.workload or "")
        for s in state.graph.steps
    )
    write_events(run, [first], fence=0)
    return run


def _allowed(judged: Assessment) -> RunInputs:
    if judged.blocked or judged.inputs is None:
        blocking = [finding for finding in judged.findings if finding.severity == "blocks"]
        error = Refused(
            f"The test cannot start: {blocking[0].sentence}", blocking[0].mend, code="preflight-blocks"
        )
        error.more = {"findings": to_data(tuple(blocking))}
        raise error
    return judged.inputs


def _refuse_overlap(ctx: Context) -> None:
    wanted = set(ctx.plan.workloads())
    for run in Run.objects.filter(outcome="", target=ctx.plan.target, last_seq__gt=0):
        shared = wanted & set(run.steps.values_list("workload", flat=True))
        if shared:
            names = ", ".join(sorted(shared)[:3])
            raise Refused(
                f"Run {run.pk} of {run.plan_name} is still at work with {names}.",
                "Wait until it is cleaned up, or abort it.",
                code="run-in-the-way",
            )


@transaction.atomic
def tell_run(pk: int, said: Control, *, by: str, key: str | None, at: datetime) -> RunState:
    """Write what a person tells a run into its log; the engine acts on it. The same key counts once."""
    find_run(pk)
    if key is not None:
        _check_key(key)
    run = Run.objects.select_for_update().get(pk=pk)
    state = fold(read_log(pk))
    if key is not None and RunEvent.objects.filter(run=run, client_key=key).exists():
        return state
    draft = control(state, said.kind, by=by, step=said.step, text=said.text, verdict=said.verdict)
    event = state.event(draft, at)
    state.apply(event)
    write_events(run, [event], fence=run.fence, client_key=key)
    return state


def _check_key(key: str) -> None:
    if not 1 <= len(key) <= LONGEST_KEY or not key.isprintable():
        raise BadValue(
            f"Idempotency-Key is {key[:40]!r}.",
            f"Send 1 to {LONGEST_KEY} printable characters, new for each new request.",
            field="Idempotency-Key",
        )


Play = Callable[[RunInputs, datetime], list[Event]]


def record_played_run(ctx: Context, options: Options, *, by: str, at: datetime, play: Play) -> Run:
    """Keep a run that was played in virtual time: the same rows through the same writer."""
    run = create_run(ctx, options, by=by, at=at)
    first = read_log(run.pk)[0]
    state = RunState(first)
    events = play(state.inputs, at)
    with transaction.atomic():
        locked = Run.objects.select_for_update().get(pk=run.pk)
        write_events(locked, events[1:], fence=1)
    return locked
