"""What can be done with runs: one function a verb."""

from __future__ import annotations

import logging
from collections.abc import Collection
from datetime import datetime

from maestoso.core.errors import BadValue, Gone, NotFound, Refused
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.runs.controls import control
from maestoso.server.audit.record import recorded
from maestoso.server.common.deadlocks import retry_deadlocks
from maestoso.server.common.news import announce
from maestoso.server.estate.models import Site
from maestoso.server.protection.picture import held_point
from maestoso.server.runs.events import inputs_of
from maestoso.server.runs.log import write_events
from maestoso.server.runs.models import Run, RunEvent
from maestoso.server.runs.shapes import Control
from maestoso.server.runs.states import current

log = logging.getLogger("maestoso.runs")
LONGEST_KEY, LONGEST_REVIEW = 100, 2000


def find_run(pk: int) -> Run:
    """The run of that number. Raises NotFound, and Gone where its log was let go."""
    run = Run.objects.filter(pk=pk).first()
    if run is None:
        raise NotFound(f"There is no run {pk}.", "See the list of runs.")
    if run.removed_at is not None:
        raise Gone(
            f"The log of run {pk} was deleted on {run.removed_at:%Y-%m-%d}, as runs are kept only so long.",
            "Its line and its seal are in the list of runs.",
        )
    return run


@recorded()
def try_again(pk: int) -> None:
    """Let a run that was put aside be conducted again. Raises Refused for one that was not."""
    if not Run.objects.filter(pk=find_run(pk).pk).exclude(put_aside="").update(put_aside=""):
        raise Refused(f"Run {pk} is not put aside.", "It goes on by itself.")
    announce()


@recorded()
def review_emergency(pk: int, text: str, *, by: str, at: datetime) -> Run:
    """Say what is to be learned from a start without approvals. Raises Refused, BadValue."""
    find_run(pk)
    run = Run.objects.select_for_update().get(pk=pk)
    if not run.emergency:
        raise Refused(f"Run {pk} was no emergency start.", "There is nothing to review.")
    if run.started_by == by:
        raise Refused("You started it yourself; somebody else must review it.", "Ask another approver.")
    if run.reviewed_by:
        raise Refused(f"{run.reviewed_by} has reviewed it already.", "Add a note to its evidence.")
    said = text.strip()
    if not 1 <= len(said) <= LONGEST_REVIEW:
        raise BadValue(
            "The review is empty, or very long.",
            f"Write 1 to {LONGEST_REVIEW} characters.",
            field="body.text",
        )
    run.review, run.reviewed_by, run.reviewed_at = said, by, at
    run.save(update_fields=["review", "reviewed_by", "reviewed_at"])
    announce()
    return run


def control_run(
    pk: int, said: Control, *, by: str, key: str | None, at: datetime, roles: Collection[str] = ()
) -> None:
    """Write what a person tells a run into its log; the engine acts on it. The same key counts once."""
    run = find_run(pk)
    if key is not None:
        check_key(key)
    # The site is asked before anything is locked: nobody waits for a site behind somebody else's word.
    point = _point(inputs_of(run), said) if said.kind == "change-point" else None
    _write_down(pk, said, point, by=by, key=key, at=at, roles=roles)


@retry_deadlocks
@recorded()
def _write_down(
    pk: int, said: Control, point: RecoveryPoint | None, *, by: str, key: str | None, at: datetime,
    roles: Collection[str],
) -> None:  # fmt: skip
    run = Run.objects.select_for_update().get(pk=pk)
    if key is not None and RunEvent.objects.filter(run=run, client_key=key).exists():
        return
    with current(pk) as state:
        draft = control(
            state, said.kind, by=by, roles=roles, step=said.step, text=said.text, verdict=said.verdict,
            group=said.group, point=point,
        )  # fmt: skip
        event = state.event(draft, at)
    write_events(run, [event], fence=run.fence, client_key=key)
    announce()


def _point(inputs: RunInputs, said: Control) -> RecoveryPoint | None:
    """The point that a person named, as the target holds it. Raises BadValue for one that it does not."""
    site = Site.objects.get(code=inputs.plan.target)
    if not said.point or said.group not in {group.code for group in inputs.groups}:
        return None
    return held_point(site, said.group, said.point, "body.point")


def check_key(key: str) -> None:
    """Raises BadValue for an Idempotency-Key that is none."""
    if not 1 <= len(key) <= LONGEST_KEY or not key.isprintable():
        raise BadValue(
            f"Idempotency-Key is {key[:40]!r}.",
            f"Send 1 to {LONGEST_KEY} printable characters, new for each new request.",
            field="Idempotency-Key",
        )
