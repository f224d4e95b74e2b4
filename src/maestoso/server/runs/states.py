"""The states of runs that anybody in this process asks about: folded once, then moved on by their logs."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from maestoso.core.errors import LogCorrupt, NotFound
from maestoso.core.runs.state import RunState, fold
from maestoso.server.runs.events import read_log, to_event
from maestoso.server.runs.models import Run, RunEvent

MOST = 60


@dataclass(slots=True)
class _Followed:
    """``state`` as of the event whose chain is ``head``; whoever looks at it holds ``lock``."""

    lock: threading.Lock = field(default_factory=threading.Lock)
    state: RunState | None = None
    head: str = ""


_followed: OrderedDict[int, _Followed] = OrderedDict()
_all = threading.Lock()


@contextmanager
def current(pk: int) -> Iterator[RunState]:
    """The state of a run as its log stands now, to be read and not to be changed, within the block.

    One question to the database brings what is new. Raises NotFound for a run without a log.
    """
    with _all:
        run = _followed.setdefault(pk, _Followed())
        _followed.move_to_end(pk)
        while len(_followed) > MOST:
            _followed.popitem(last=False)
    with run.lock:
        yield _moved_on(pk, run)


def each(rows: Iterable[Run]) -> Iterator[tuple[Run, RunState]]:
    """The state of every run, one after the other, to be read before the next; without those that are put
    aside because their logs cannot be read, which are shown as such and must not take the rest with them."""
    for row in rows:
        try:
            with current(row.pk) as state:
                yield row, state
        except LogCorrupt:
            continue


def forget_all() -> None:
    """Have every state folded anew."""
    with _all:
        _followed.clear()


def _moved_on(pk: int, run: _Followed) -> RunState:
    state = run.state
    if state is not None:
        rows = list(RunEvent.objects.filter(run_id=pk, seq__gte=state.seq).order_by("seq"))
        if rows and rows[0].chain == run.head:
            # Should an event not fit, what it half changed must not be found by the next who asks.
            run.state = None
            for row in rows[1:]:
                state.apply(to_event(row))
            run.state, run.head = state, rows[-1].chain
            return state
    events = read_log(pk)
    if not events:
        raise NotFound(f"There is no run {pk}, or its log was deleted.", "See the list of runs.")
    run.state = fold(events)
    run.head = RunEvent.objects.values_list("chain", flat=True).get(run_id=pk, seq=len(events))
    return run.state
