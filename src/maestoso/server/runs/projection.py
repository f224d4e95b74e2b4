"""The rows of steps and runs as their logs have them; ``check_integrity`` rebuilds them and compares."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from django.db import connection
from django.db.models import QuerySet

from maestoso.core.errors import LogCorrupt
from maestoso.core.evidence.chain import first_broken
from maestoso.core.planning.compiled import JUDGED
from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.graph import TAKES_BACK
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import again, fold
from maestoso.core.runs.steps import next_status
from maestoso.server.runs.events import read_log, to_event
from maestoso.server.runs.models import Run, RunEvent, RunStep

_SETTLING = (
    "step.done", "step.failed", "step.skipped", "hold.answered", "verdict.given", "decision.given",
)  # fmt: skip
_NOT_OF_STEPS = ("run.", "site.", "point.")
# Of thousands of steps at once: model objects would take most of the time.
_SAVE = """
    INSERT INTO runs_runstep
        (run_id, step, verb, phase, workload, status, attempt, asked_s, settled_s)
    VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s)
    ON DUPLICATE KEY UPDATE
        status=VALUES(status), attempt=VALUES(attempt), asked_s=VALUES(asked_s), settled_s=VALUES(settled_s)
"""


@dataclass(slots=True)
class Row:
    """A row of a step while events are carried over to it."""

    step: str
    verb: str
    phase: str
    workload: str
    status: str
    attempt: int
    asked_s: float | None
    settled_s: float | None


FIELDS = tuple(Row.__dataclass_fields__)


def follow(run: Run, events: Sequence[Event]) -> None:
    """Carry events over to the rows of the steps and to the run, which the caller saves."""
    named = {_step_of(event) for event in events} - {""}
    rows = _rows(run, named)
    for event in events:
        name = _step_of(event)
        if name:
            _move(rows[name], event, run.aborted)
        if event.kind == "step.waits" and name in JUDGED:
            run.ready_s = event.run_s
        elif event.kind == "decision.given":
            run.notes = event.data.get("notes", "")
            _save(run, rows.values())
            untaken = "roll-back" if event.data["decision"] == "commit" else "commit"
            _cancel(run, RunStep.objects.filter(phase=untaken, status="waiting"), event)
            rows = _rows(run, named)
        elif event.kind == "point.changed":
            run.ready_s = None
            _save(run, rows.values())
            _reopen(run, event)
            rows = _rows(run, named)
        elif event.kind == "verdict.given":
            run.notes = event.data.get("notes", "")
        elif event.kind == "run.finished":
            run.outcome, run.ended_at = event.data["outcome"], event.at
        elif event.kind == "run.aborted":
            run.aborted = True
            _save(run, rows.values())
            left = RunStep.objects.filter(status__in=("waiting", "person", "failed"))
            _cancel(run, left.exclude(phase__in=TAKES_BACK), event)
            rows = _rows(run, named)
    _save(run, rows.values())


def _rows(run: Run, named: Iterable[str]) -> dict[str, Row]:
    found = RunStep.objects.filter(run=run, step__in=list(named)).values_list(*FIELDS)
    return {values[0]: Row(*values) for values in found}


def _cancel(run: Run, steps: QuerySet[RunStep], event: Event) -> None:
    steps.filter(run=run).update(status="cancelled", settled_s=event.run_s)


def _reopen(run: Run, event: Event) -> None:
    """Which steps are done once more is for the fold to say: of the log before this event."""
    state = fold(read_log(run.pk)[: event.seq - 1])
    names = again(state, event.data["group"])
    RunStep.objects.filter(run=run, step__in=names).update(status="waiting", asked_s=None, settled_s=None)


def _step_of(event: Event) -> str:
    if event.kind == "verdict.given":
        return VERDICT
    if event.kind == "decision.given":
        return DECISION
    return "" if event.kind.startswith(_NOT_OF_STEPS) else str(event.data.get("step", ""))


def _move(row: Row, event: Event, aborted: bool) -> None:
    row.status = next_status(row.step, row.status, event.kind)  # type: ignore[arg-type]
    if event.kind == "step.asked":
        row.attempt, row.asked_s, row.settled_s = event.data["attempt"], event.run_s, None
    elif event.kind == "step.waits":
        row.asked_s = event.run_s
    elif event.kind == "step.retried":
        row.settled_s = None
    elif event.kind in _SETTLING:
        row.settled_s = event.run_s
        if aborted and event.kind == "step.failed" and row.phase not in TAKES_BACK:
            row.status = "cancelled"


def _save(run: Run, rows: Iterable[Row]) -> None:
    values = [(run.pk, *(getattr(row, field) for field in FIELDS)) for row in rows]
    if values:
        with connection.cursor() as cursor:
            cursor.executemany(_SAVE, values)


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
    for row in RunStep.objects.filter(run=run):
        true = state.steps[row.step]
        if (row.status, row.attempt, row.asked_s, row.settled_s) != (
            true.status, true.attempt, true.asked_s, true.settled_s,
        ):  # fmt: skip
            wrong.append(f"{row.step} is {row.status}, try {row.attempt}; its log says {true.status}.")
    return wrong
