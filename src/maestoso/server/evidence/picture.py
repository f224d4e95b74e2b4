"""What the pages of evidence show."""

from __future__ import annotations

import logging
from datetime import UTC, timedelta

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, DomainError
from maestoso.core.evidence.comparison import compare
from maestoso.core.evidence.evidence_file import Verification
from maestoso.core.evidence.report import Report, report
from maestoso.core.evidence.seal import opened
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState, fold
from maestoso.core.score import ScoreStep, run_score
from maestoso.engine.clock import SystemClock
from maestoso.server.common.seal_keys import public_keys
from maestoso.server.evidence.models import Addition, Seal
from maestoso.server.evidence.sealing import check
from maestoso.server.evidence.services import addition_statement
from maestoso.server.evidence.shapes import (
    AdditionView,
    Compared,
    RunEvidence,
    Trend,
    TrendRun,
)
from maestoso.server.organisation.services import organisation
from maestoso.server.plans.services import find_plan
from maestoso.server.runs.events import read_log, run_name
from maestoso.server.runs.models import Run
from maestoso.server.runs.services import find_run

log = logging.getLogger("maestoso.evidence")
MOST_COMPARED = 200
BEING_SEALED = timedelta(minutes=1)
"""How long after its end nobody is told that a run has no seal."""


def run_evidence(pk: int) -> RunEvidence:
    """A run, whether it is as it was sealed, and what was added to it."""
    run, events = find_run(pk), read_log(pk)
    seal = Seal.objects.filter(run=run).first()
    keep = organisation().keep_days
    others = Run.objects.filter(plan_code=run.plan_code, kind=run.kind, removed_at=None)
    others = others.exclude(pk=pk).exclude(outcome="")
    return RunEvidence(
        report=_report(run, events),
        verification=_checked(run, seal, events),
        sealed_at=seal.sealed_at if seal else None,
        additions=tuple(addition(row, run) for row in run.additions.defer("body")),
        legal_hold=run.legal_hold,
        leaves_at=run.ended_at + timedelta(days=keep) if keep and run.ended_at else None,
        others=tuple(others.values_list("pk", flat=True)[:MOST_COMPARED]),
    )


def _report(run: Run, events: list[Event]) -> Report | None:
    try:
        return report(run_name(run.pk), run.pk, events)
    except (DomainError, LookupError, TypeError, ValueError):
        # Whatever was done to the rows: what is wrong with them, the seal says better.
        log.exception("The report of run %s cannot be made", run.pk)
        return None


def _checked(run: Run, seal: Seal | None, events: list[Event]) -> Verification | None:
    if seal is None:
        # The keeper seals it within seconds.
        if run.ended_at is None or SystemClock().now() - run.ended_at < BEING_SEALED:
            return None
        return Verification(
            holds=False,
            sentence="The run has ended and has no seal: its key cannot be read, its log is not whole, or "
            "somebody took the seal away. The log of the keeper says which.",
        )
    if seal.key not in public_keys():
        return Verification(
            holds=False, key=seal.key, trusted=False,
            sentence="The key that sealed this run is gone. Restore the folder of keys from a backup.",
        )  # fmt: skip
    return check(seal, events)


def addition(row: Addition, run: Run) -> AdditionView:
    """An addition, and whether it is as it was signed."""
    return AdditionView(
        number=row.number, by=row.by, at=row.at, text=row.text, name=row.name, media_type=row.media_type,
        size=row.size, sha256=row.sha256, holds=_as_signed(row, run),
    )  # fmt: skip


def _as_signed(row: Addition, run: Run) -> bool:
    for key in public_keys().values():
        try:
            wanted = {**addition_statement(row, run), "at": row.at.astimezone(UTC)}
            return bool(opened(row.token, key) == to_data(wanted))
        except DomainError:
            continue
    return False


def compared(pk: int, other: int) -> Compared:
    """Two runs of a plan, the earlier first. Raises BadValue for runs of different plans or kinds."""
    one, two = sorted((find_run(pk), find_run(other)), key=lambda run: (run.started_at, run.pk))
    if one.pk == two.pk or one.plan_code != two.plan_code:
        raise BadValue(
            f"Run {two.pk} is of {two.plan_name}, run {one.pk} of {one.plan_name}."
            if one.pk != two.pk
            else f"Both are run {pk}.",
            "Choose another run of the same plan.",
            field="with",
        )
    logs = read_log(one.pk), read_log(two.pk)
    states = fold(logs[0]), fold(logs[1])
    return Compared(
        earlier=report(run_name(one.pk), one.pk, logs[0]),
        later=report(run_name(two.pk), two.pk, logs[1]),
        comparison=compare(*logs),
        earlier_steps=_score(states[0]),
        later_steps=_score(states[1]),
        earlier_waves=tuple(wave.name for wave in states[0].inputs.plan.waves),
        later_waves=tuple(wave.name for wave in states[1].inputs.plan.waves),
    )


def _score(state: RunState) -> tuple[ScoreStep, ...]:
    return run_score(state, state.at)


def trend(code: str) -> Trend:
    """All sealed runs of a plan in numbers."""
    plan = find_plan(code).version().core()
    rows = Seal.objects.filter(run__plan_code=code).select_related("run").order_by("run__started_at")
    return Trend(
        plan=code,
        plan_name=plan.name,
        rto_objective_s=plan.rto_s,
        rpo_objective_s=plan.rpo_s,
        runs=tuple(
            TrendRun(
                run=row.run_id, kind=row.run.kind, outcome=row.run.outcome, at=row.run.started_at,
                version=row.run.plan_version, rto_s=row.rto_s, rpo_s=row.rpo_s, people_s=row.people_s,
                failures=row.failures, rto_objective_s=row.run.rto_objective_s,
            )
            for row in rows
            if row.run.kind != "re-protect"
        ),
    )  # fmt: skip
