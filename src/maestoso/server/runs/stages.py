"""What the events of a live run mean for the stages of groups, and for the way in which they are copied."""

from __future__ import annotations

from collections.abc import Sequence

from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.inputs import LiveChoices
from maestoso.core.replication.lifecycle import Happening
from maestoso.core.runs.events import ENGINE, Event
from maestoso.server.estate.models import Site
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import advance_stage, forget
from maestoso.server.runs.events import inputs_of, taken_over
from maestoso.server.runs.models import Run


def apply_events(run: Run, events: Sequence[Event]) -> None:
    """Groups move on in their lifecycle."""
    if run.kind == "test":
        return
    for event in events:
        if event.kind == "run.started":
            _move(run, "re-protect" if run.kind == "re-protect" else "fail over")
        elif event.kind == "step.waits" and event.data["step"] == DECISION:
            _came_up(run)
        if taken_over(event):
            _come_over(run)
        if event.kind == "run.finished":
            _finished(run, event)


def _rows(run: Run) -> list[GroupRow]:
    codes = [group.code for group in inputs_of(run).groups]
    return list(GroupRow.objects.select_for_update().filter(code__in=codes))


def _move(run: Run, happening: Happening) -> None:
    for row in _rows(run):
        advance_stage(row, happening)


def _came_up(run: Run) -> None:
    """The first time it waits for a decision; from another point it may wait again."""
    for row in _rows(run):
        if row.stage == "failing over":
            advance_stage(row, "came up")


def _finished(run: Run, event: Event) -> None:
    outcome = str(event.data["outcome"])
    if run.kind == "re-protect":
        _move(run, "resynced" if outcome == "protected" else "stopped")
    elif outcome == "committed":
        _follow(run, event, inputs_of(run).live or LiveChoices())
    else:
        for row in _rows(run):
            advance_stage(row, "roll back" if row.stage == "running uncommitted" else "called off")


def _come_over(run: Run) -> None:
    """The groups are of the way back, and not copied yet."""
    target, source = Site.objects.get(code=run.target), Site.objects.get(code=run.source)
    for row in _rows(run):
        if row.stage == "running uncommitted":
            advance_stage(row, "commit")
            row.source, row.target = target, source
            row.save(update_fields=["source", "target"])


def _follow(run: Run, event: Event, live: LiveChoices) -> None:
    """What was chosen for after the commit."""
    if live.at_commit == "end-protection":
        for row in _rows(run):
            advance_stage(row, "end protection")
            forget(row, by=ENGINE, at=event.at)
    if live.at_commit == "re-protect":
        run.follow_up = "re-protect"
