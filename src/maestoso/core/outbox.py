"""What becomes of a request to a site: the rules of the outbox, without its rows.

A site answers a key with what it did when it first heard it, and refuses a fence that is lower than one
that it has heard of the same subject. From that follow the rules: what failed needs another key, what was
never sent can be taken back, and what comes later has the higher fence.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

from maestoso.core.runs.operations import OperationState

WAITING, DONE, FAILED, WITHDRAWN = "waiting", "done", "failed", "withdrawn"
LONGEST_PEACE_S = 600.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Request:
    """One request as far as the rules look at it.

    ``generation`` counts its keys. ``insists``: it is brought to its site until that has done it. ``sent``:
    the site may have heard it, and so may have done it, whatever was heard of that. ``taken_in``: the site
    said that it is at it.
    """

    insists: bool
    generation: int = 1
    sent: bool = False
    taken_in: bool = False
    status: str = WAITING


def fence_after(last: int, now_ms: int) -> int:
    """The fence of a new request, behind the ``last`` of its subject.

    It is milliseconds of the clock, so that it grows even where older requests were let go.
    """
    return max(last + 1, now_ms)


def answered(request: Request, state: OperationState) -> Request:
    """What becomes of it when its site says how it ended.

    Asked again under the same key, the site would only repeat a failure: what insists takes the next key.
    """
    if state.status == "done":
        return replace(request, status=DONE)
    if request.insists:
        return replace(request, generation=request.generation + 1)
    return replace(request, status=FAILED)


def unheard(request: Request) -> Request:
    """Nobody knows what became of it.

    What does not insist is not asked for any more, behind the back of who was told so. What a site is at goes
    on there whether somebody asks or not, so its end is waited for.
    """
    return request if request.insists or request.taken_in else replace(request, status=WITHDRAWN)


def withdrawn(request: Request) -> Request | None:
    """Taken back; None where that is too late: what may have been heard needs another request behind it."""
    if request.sent or request.status != WAITING:
        return None
    return replace(request, status=WITHDRAWN)


def peace_s(generation: int) -> float:
    """Seconds for which a site is left in peace that failed a request of that generation; none at first."""
    return 0.0 if generation == 1 else min(3.0 * 2.0**generation, LONGEST_PEACE_S)
