"""The rows of runs and steps as their logs have them; ``check_integrity`` rebuilds them and compares."""

from __future__ import annotations

import logging
from collections.abc import Sequence

from django.db import DatabaseError, connection, transaction

from maestoso.core.errors import LogCorrupt
from maestoso.core.evidence.chain import first_broken
from maestoso.core.planning.compiled import JUDGED
from maestoso.core.ports import Clock
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import fold
from maestoso.server.common import traces
from maestoso.server.runs.events import read_log, to_event
from maestoso.server.runs.models import Run, RunEvent, RunStep

# Of thousands of steps at once: model objects would take most of the time.
_SAVE = """
    INSERT INTO runs_runstep
        (run_id, step, verb, phase, workload, status, attempt, asked_s, settled_s)
    VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s)
    ON DUPLICATE KEY UPDATE
        status=VALUES(status), attempt=VALUES(attempt), asked_s=VALUES(asked_s), settled_s=VALUES(settled_s)
"""
log = logging.getLogger("maestoso.runs")


def apply_events(run: Run, events: Sequence[Event]) -> None:
    """Carry events over to the run, which the caller saves."""
    for event in events:
        if event.kind == "step.waits" and event.data["step"] in JUDGED:
            run.ready_s = event.run_s
        elif event.kind == "point.changed":
            run.ready_s = None
        elif event.kind in ("decision.given", "verdict.given"):
            run.notes = event.data.get("notes", "")
        elif event.kind == "run.aborted":
            run.aborted = True
        elif event.kind == "run.finished":
            run.outcome, run.ended_at = event.data["outcome"], event.at


def write_steps_of_ended(_clock: Clock) -> None:
    """Write down what became of the steps of runs that have ended since.

    Behind the log: while a run goes on, its state says more than rows could. Each run is done once, however
    often somebody dies in the middle of it.
    """
    for run in Run.objects.exclude(outcome="").filter(steps_written=False, removed_at=None):
        try:
            events = write_steps(run.pk)
            if traces.tracing():
                _tell(run, events)
        except DatabaseError:
            raise
        except Exception:
            # Whatever was done to its rows: the others are not kept waiting by it.
            log.exception("The steps of run %d cannot be written down", run.pk)


@transaction.atomic
def write_steps(pk: int) -> list[Event]:
    """Write down what became of the steps of a run that has ended; its log. Raises LogCorrupt."""
    run = Run.objects.select_for_update().get(pk=pk)
    events = read_log(pk)
    state = fold(events)
    values = [
        (
            pk, step.id, step.verb, step.phase, step.workload or "", one.status, one.attempt, one.asked_s,
            one.settled_s,
        )
        for step in state.graph.steps if (one := state.steps[step.id])
    ]  # fmt: skip
    with connection.cursor() as cursor:
        cursor.executemany(_SAVE, values)
    run.steps_written = True
    run.save(update_fields=["steps_written"])
    return events


def _tell(run: Run, events: Sequence[Event]) -> None:
    """Those who collect traces, once it is written down."""
    state = fold(events)
    # Time of a run goes faster than that of a clock where it practises.
    at = {event.run_s: event.at for event in events}
    asked = [
        traces.Step(
            id=step.id, verb=step.verb, workload=step.workload or "", status=one.status, attempt=one.attempt,
            began=at[one.asked_s], ended=at[one.settled_s],
        )
        for step in state.graph.steps
        if (one := state.steps[step.id]).asked_s in at and one.settled_s in at
    ]  # fmt: skip
    ended = run.ended_at or events[-1].at
    traces.run_ended(run.pk, run.plan_code, run.kind, run.outcome, run.started_at, ended, asked)


def check_projection(run: Run) -> list[str]:
    """Differences between the rows of a run and what its log amounts to; empty when they agree."""
    rows = list(RunEvent.objects.filter(run=run).order_by("seq"))
    broken = first_broken((to_event(row), row.chain) for row in rows)
    wrong = [f"The chain is broken at event {broken}."] if broken is not None else []
    try:
        state = fold(to_event(row) for row in rows)
    except LogCorrupt as error:
        return [*wrong, error.sentence]
    if (run.last_seq, run.outcome) != (state.seq, state.outcome or ""):
        wrong.append(f"The run says event {run.last_seq}, {run.outcome!r}; its log says {state.seq}.")
    for row in RunStep.objects.filter(run=run) if run.steps_written else ():
        true = state.steps[row.step]
        if (row.status, row.attempt, row.asked_s, row.settled_s) != (
            true.status, true.attempt, true.asked_s, true.settled_s,
        ):  # fmt: skip
            wrong.append(f"{row.step} is {row.status}, try {row.attempt}; its log says {true.status}.")
    return wrong
