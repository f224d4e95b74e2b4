"""The run log in MariaDB: the adapter of the RunLog port."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC
from functools import lru_cache, wraps
from typing import Any, TypeVar

from django.conf import settings
from django.db import InterfaceError, OperationalError, close_old_connections, connection, transaction
from django.db.models import QuerySet

from maestoso.core.codec import to_data
from maestoso.core.errors import LogCorrupt
from maestoso.core.evidence.chain import first_broken, line_of, link_text
from maestoso.core.planning.compiled import JUDGED
from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.graph import TAKES_BACK
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.ports import Append, AppendResult, Lease, LogUnavailable
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import again, fold, inputs_in
from maestoso.core.runs.steps import next_status
from maestoso.engine.incarnation import known_gone
from maestoso.server.common.news import ring
from maestoso.server.evidence.sealing import seal_run
from maestoso.server.runs.consequences import follow
from maestoso.server.runs.models import Run, RunEvent, RunStep

T = TypeVar("T")
_SETTLING = (
    "step.done", "step.failed", "step.skipped", "hold.answered", "verdict.given", "decision.given",
)  # fmt: skip


def run_name(pk: int) -> str:
    """What a run is called in operation keys: its number, behind the name of this installation."""
    return f"{settings.SECRETS.instance}-{pk}"


def run_number(name: str) -> int:
    """The number in :func:`run_name`."""
    return int(name.rsplit("-", 1)[1])


def reachable(call: Callable[..., T]) -> Callable[..., T]:
    """A database that is away is LogUnavailable; the broken connection is dropped."""

    @wraps(call)
    def wrapped(*args: Any, **kwargs: Any) -> T:
        try:
            close_old_connections()
            return call(*args, **kwargs)
        except (OperationalError, InterfaceError) as error:
            connection.close()
            raise LogUnavailable(str(error)) from error

    return wrapped


def to_event(row: RunEvent) -> Event:
    """The value of a row."""
    return Event(
        seq=row.seq,
        at=row.at.astimezone(UTC),
        run_s=row.run_s,
        kind=row.kind,  # type: ignore[arg-type]
        data=row.data,
        by=row.by,
        schema=row.schema,
    )


def read_log(pk: int, after: int = 0) -> list[Event]:
    """Events of a run behind number ``after``."""
    return [to_event(row) for row in RunEvent.objects.filter(run_id=pk, seq__gt=after).order_by("seq")]


def inputs_of(run: Run) -> RunInputs:
    """What a run was compiled from; kept, since its first event never changes."""
    first = RunEvent.objects.values_list("chain", flat=True).get(run_id=run.pk, seq=1)
    return _inputs_of(run.pk, first)


@lru_cache(maxsize=50)
def _inputs_of(pk: int, chain: str) -> RunInputs:
    return inputs_in(to_event(RunEvent.objects.get(run_id=pk, seq=1)))


def write_events(run: Run, events: Sequence[Event], fence: int, client_key: str | None = None) -> None:
    """Add events to a run whose row is locked, with the projection, inside the caller's transaction."""
    rows, head = [], run.chain_head
    for event in events:
        told = to_data(event)
        head = link_text(head, line_of(told))
        rows.append(
            RunEvent(
                run=run, seq=event.seq, fence=fence, at=event.at, run_s=event.run_s, kind=event.kind,
                data=told["data"], by=event.by, schema=event.schema, chain=head, client_key=client_key,
            )
        )  # fmt: skip
    RunEvent.objects.bulk_create(rows)
    run.chain_head, run.last_seq = head, events[-1].seq
    _project(run, events)
    if run.kind != "test":
        follow(run, events, inputs_of(run))
    run.save(update_fields=["chain_head", "last_seq", *PROJECTED])
    if run.outcome:
        seal_run(run, run_name(run.pk), read_log(run.pk))


PROJECTED = ("outcome", "aborted", "ready_s", "notes", "ended_at", "follow_up")


def _project(run: Run, events: Iterable[Event]) -> None:
    """Carry events over to the rows of the steps and of the run."""
    named = {_step_of(event) for event in events} - {""}
    rows = {row.step: row for row in RunStep.objects.filter(run=run, step__in=named)}
    for event in events:
        name = _step_of(event)
        if name:
            _project_step(rows[name], event, run.aborted)
        if event.kind == "step.waits" and name in JUDGED:
            run.ready_s = event.run_s
        elif event.kind == "decision.given":
            run.notes = event.data.get("notes", "")
            _save_steps(rows.values())
            untaken = "roll-back" if event.data["decision"] == "commit" else "commit"
            _cancel(run, RunStep.objects.filter(phase=untaken, status="waiting"), event)
            rows = {row.step: row for row in RunStep.objects.filter(run=run, step__in=named)}
        elif event.kind == "point.changed":
            run.ready_s = None
            _save_steps(rows.values())
            _reopen(run, event)
            rows = {row.step: row for row in RunStep.objects.filter(run=run, step__in=named)}
        elif event.kind == "verdict.given":
            run.notes = event.data.get("notes", "")
        elif event.kind == "run.finished":
            run.outcome, run.ended_at = event.data["outcome"], event.at
        elif event.kind == "run.aborted":
            run.aborted = True
            _save_steps(rows.values())
            left = RunStep.objects.filter(status__in=("waiting", "person", "failed"))
            _cancel(run, left.exclude(phase__in=TAKES_BACK), event)
            rows = {row.step: row for row in RunStep.objects.filter(run=run, step__in=named)}
    _save_steps(rows.values())


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
    if event.kind == "point.changed":
        return ""
    return "" if event.kind.startswith("run.") else str(event.data.get("step", ""))


def _project_step(row: RunStep, event: Event, aborted: bool) -> None:
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


def _save_steps(rows: Iterable[RunStep]) -> None:
    listed = list(rows)
    if listed:
        # INSERT … ON DUPLICATE KEY UPDATE: bulk_update's CASE for each row and column is many times slower.
        RunStep.objects.bulk_create(
            listed, update_conflicts=True, update_fields=["status", "attempt", "asked_s", "settled_s"]
        )


class DatabaseRunLog:
    """The RunLog port on MariaDB. Times of leases are the database's, never this machine's."""

    @reachable
    def unfinished(self) -> Mapping[str, int]:
        """Runs without an outcome that are not put aside, with the number of their last event."""
        rows = (
            Run.objects.filter(outcome="", last_seq__gt=0, put_aside="")
            .order_by("pk")
            .values_list("pk", "last_seq")
        )
        return {run_name(pk): seq for pk, seq in rows}

    @reachable
    def put_aside(self, run: str, why: str) -> None:
        """Its row says why nobody conducts it."""
        Run.objects.filter(pk=run_number(run)).update(put_aside=why[:1000], lease_until=None)
        ring(others=True)

    @reachable
    def read(self, run: str, after: int = 0) -> list[Event]:
        """Events of a run behind number ``after``."""
        return read_log(run_number(run), after)

    @reachable
    def append(self, batch: Sequence[Append]) -> list[AppendResult]:
        """Add the events of all runs in one transaction. A run that lost its lease is left out alone."""
        results: list[AppendResult] = []
        with transaction.atomic():
            for append in batch:
                pk = run_number(append.lease.run)
                run = Run.objects.select_for_update().get(pk=pk)
                if run.fence != append.lease.fence:
                    results.append("lost")
                elif run.last_seq + 1 != append.events[0].seq:
                    results.append("behind")
                else:
                    write_events(run, append.events, append.lease.fence)
                    results.append("written")
        ring(others=True)
        return results

    @reachable
    def claim(self, run: str, owner: str, lease_s: float) -> Lease | None:
        """One statement decides; the loser sees no row changed."""
        pk = run_number(run)
        with transaction.atomic(), connection.cursor() as cursor:
            cursor.execute("SELECT owner FROM runs_run WHERE id=%s", [pk])
            held_by = cursor.fetchone()[0]
            before = held_by if known_gone(held_by, owner) else owner
            cursor.execute(
                "UPDATE runs_run SET owner=%s, fence=fence+1,"
                " lease_until=UTC_TIMESTAMP(6) + INTERVAL %s MICROSECOND"
                " WHERE id=%s AND outcome=''"
                " AND (lease_until IS NULL OR lease_until < UTC_TIMESTAMP(6) OR owner IN (%s, %s))",
                [owner, int(lease_s * 1e6), pk, owner, before],
            )
            if cursor.rowcount != 1:
                return None
            cursor.execute("SELECT fence FROM runs_run WHERE id=%s", [pk])
            return Lease(run=run, fence=cursor.fetchone()[0])

    @reachable
    def renew(self, leases: Sequence[Lease], owner: str, lease_s: float) -> set[str]:
        """Keep leases whose fence is still the highest."""
        kept = set()
        with transaction.atomic(), connection.cursor() as cursor:
            for lease in leases:
                cursor.execute(
                    "UPDATE runs_run SET lease_until=UTC_TIMESTAMP(6) + INTERVAL %s MICROSECOND"
                    " WHERE id=%s AND owner=%s AND fence=%s",
                    [int(lease_s * 1e6), run_number(lease.run), owner, lease.fence],
                )
                if cursor.rowcount == 1:
                    kept.add(lease.run)
        return kept

    @reachable
    def release(self, leases: Sequence[Lease], owner: str) -> None:
        """Let go of leases that are still this owner's."""
        with transaction.atomic(), connection.cursor() as cursor:
            for lease in leases:
                cursor.execute(
                    "UPDATE runs_run SET lease_until=NULL WHERE id=%s AND owner=%s AND fence=%s",
                    [run_number(lease.run), owner, lease.fence],
                )


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
