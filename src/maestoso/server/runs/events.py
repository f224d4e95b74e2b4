"""Reading the logs of runs, and writing to them; what follows from what is written is for the subscribers."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from datetime import UTC
from functools import lru_cache

from django.conf import settings
from django.db import connection

from maestoso.core.codec import to_data
from maestoso.core.evidence.chain import line_of, link_text
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import inputs_in
from maestoso.server.runs.models import Run, RunEvent

# All events of a run as one value: thousands of rows with one for each column would take most of the time.
_INSERT = """
    INSERT INTO runs_runevent
        (run_id, seq, fence, at, run_s, kind, data, `by`, `schema`, client_key, chain)
    SELECT
        run, seq, fence, CAST(REPLACE(REPLACE(at, 'T', ' '), '+00:00', '') AS DATETIME(6)), run_s, kind, data,
        who, shape, client_key, chain
    FROM JSON_TABLE(%s, '$[*]' COLUMNS(
        seq INT UNSIGNED PATH '$[0].seq', at VARCHAR(40) PATH '$[0].at', run_s DOUBLE PATH '$[0].run_s',
        kind VARCHAR(20) PATH '$[0].kind', data JSON PATH '$[0].data', who VARCHAR(150) PATH '$[0].by',
        shape SMALLINT UNSIGNED PATH '$[0].schema', chain CHAR(64) PATH '$[1]', run BIGINT PATH '$[2]',
        fence BIGINT UNSIGNED PATH '$[3]', client_key VARCHAR(100) PATH '$[4]'
    )) AS events
"""
MOST_INPUTS = 300
"""Inputs that are kept: those of the last test of every plan are looked at by every board."""
Subscriber = Callable[[Run, Sequence[Event]], None]
"""Carries events of a run over to other records, in their transaction; whoever calls it saves the run."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Addition:
    """Events to add to a run whose row is locked; ``client_key`` is that of a person's word."""

    run: Run
    events: Sequence[Event]
    fence: int
    client_key: str | None = None


def run_name(pk: int) -> str:
    """What a run is called in operation keys: its number, behind the name of this installation."""
    return f"{settings.SECRETS.instance}-{pk}"


def run_number(name: str) -> int:
    """The number in :func:`run_name`."""
    return int(name.rsplit("-", 1)[1])


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


def taken_over(event: Event) -> bool:
    """Whether its target took the workloads of a run as its own: from then on they are at home there.

    The end of the run may wait for a source that is lost.
    """
    adopted = event.kind == "step.done" and event.data["step"] == "adopt:run"
    return adopted or (event.kind == "run.finished" and event.data["outcome"] == "committed")


def inputs_of(run: Run) -> RunInputs:
    """What a run was compiled from; kept, since its first event never changes."""
    first = RunEvent.objects.values_list("chain", flat=True).get(run_id=run.pk, seq=1)
    return _inputs_of(run.pk, first)


def inputs_of_all(numbers: Collection[int]) -> dict[int, RunInputs]:
    """The same for many runs at once, by their numbers."""
    first = RunEvent.objects.filter(run__in=numbers, seq=1).values_list("run_id", "chain")
    return {pk: _inputs_of(pk, chain) for pk, chain in first}


@lru_cache(maxsize=MOST_INPUTS)
def _inputs_of(pk: int, chain: str) -> RunInputs:
    return inputs_in(to_event(RunEvent.objects.get(run_id=pk, seq=1)))


def write(additions: Sequence[Addition]) -> None:
    """Add events to logs in one statement, inside the caller's transaction. Runs have their new heads."""
    lines = []
    for addition in additions:
        run, its_own = addition.run, f"{addition.run.pk},{addition.fence},{json.dumps(addition.client_key)}"
        for event in addition.events:
            line = line_of(to_data(event))
            run.chain_head = link_text(run.chain_head, line)
            lines.append(f'[{line},"{run.chain_head}",{its_own}]')
        run.last_seq = addition.events[-1].seq
    with connection.cursor() as cursor:
        cursor.execute(_INSERT, [f"[{','.join(lines)}]"])
