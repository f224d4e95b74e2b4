"""The run log in MariaDB: the adapter of the RunLog port."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from typing import Any, TypeVar

from django.db import InterfaceError, OperationalError, close_old_connections, connection, transaction

from maestoso.core.ports import Append, AppendResult, Lease, LogUnavailable
from maestoso.core.runs.events import Event
from maestoso.engine.incarnation import known_gone
from maestoso.server.common.deadlocks import retry_deadlocks
from maestoso.server.common.news import ring
from maestoso.server.reign.services import past_because
from maestoso.server.runs import fences, homes, projection, stages
from maestoso.server.runs.events import Addition, Subscriber, read_log, run_name, run_number, write
from maestoso.server.runs.models import Run

T = TypeVar("T")
SUBSCRIBERS: tuple[Subscriber, ...] = (
    projection.apply_events,
    homes.apply_events,
    stages.apply_events,
    fences.apply_events,
)
"""What must agree with the log at every moment, in this order. What need not, the keeper sees to when a
run has ended: its steps (:mod:`projection`) and its seal."""
PROJECTED = ("chain_head", "last_seq", "outcome", "aborted", "ready_s", "notes", "ended_at", "follow_up")


def reachable(call: Callable[..., T]) -> Callable[..., T]:
    """A database that is away is LogUnavailable; the broken connection is dropped. What met something else,
    here or on another node, was taken back as a whole and is done again."""

    @wraps(call)
    def wrapped(*args: Any, **kwargs: Any) -> T:
        try:
            close_old_connections()
            return retry_deadlocks(call)(*args, **kwargs)
        except (OperationalError, InterfaceError) as error:
            connection.close()
            raise LogUnavailable(str(error)) from error

    return wrapped


def write_events(run: Run, events: Sequence[Event], fence: int, client_key: str | None = None) -> None:
    """Add events to a run whose row is locked, with all that follows, inside the caller's transaction."""
    _add([Addition(run=run, events=events, fence=fence, client_key=client_key)])


def _add(additions: Sequence[Addition]) -> None:
    """Subscriber by subscriber: what one of them locks, all runs have before the next one comes."""
    write(additions)
    for follow in SUBSCRIBERS:
        for addition in additions:
            follow(addition.run, addition.events)
    for addition in additions:
        addition.run.save(update_fields=PROJECTED)


class DatabaseRunLog:
    """The RunLog port on MariaDB. Times of leases are the database's, never this machine's."""

    @reachable
    def unfinished(self) -> Mapping[str, int]:
        """Runs without an outcome that are not put aside, with the number of their last event.

        None once another machine has taken over.
        """
        if past_because():
            return {}
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
        additions = []
        with transaction.atomic():
            numbers = [run_number(append.lease.run) for append in batch]
            rows = Run.objects.select_for_update().order_by("pk").in_bulk(numbers)
            for append, number in zip(batch, numbers, strict=True):
                run, fence = rows[number], append.lease.fence
                if run.fence != fence:
                    results.append("lost")
                elif run.last_seq + 1 != append.events[0].seq:
                    results.append("behind")
                else:
                    additions.append(Addition(run=run, events=append.events, fence=fence))
                    results.append("written")
            if additions:
                _add(additions)
        ring(others=True)
        return results

    @reachable
    def claim(self, run: str, owner: str, lease_s: float) -> Lease | None:
        """Whoever locks the row first decides; one that is taken is not even locked."""
        pk = run_number(run)
        with transaction.atomic(), connection.cursor() as cursor:
            # The row before its entries in any index, as whoever writes events does: else the two would stop
            # each other.
            for lock in ("", " FOR UPDATE"):
                cursor.execute(
                    "SELECT owner, fence, outcome='', lease_until IS NULL OR lease_until < UTC_TIMESTAMP(6)"
                    f" FROM runs_run WHERE id=%s{lock}",
                    [pk],
                )
                held_by, fence, goes_on, free = cursor.fetchone()
                if not goes_on or not (free or held_by == owner or known_gone(held_by, owner)):
                    return None
            cursor.execute(
                "UPDATE runs_run SET owner=%s, fence=%s,"
                " lease_until=UTC_TIMESTAMP(6) + INTERVAL %s MICROSECOND WHERE id=%s",
                [owner, fence + 1, int(lease_s * 1e6), pk],
            )
            return Lease(run=run, fence=fence + 1)

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
