"""What the events of a live run mean for the records: stages of groups, kept fences, where things are.

All of it is written in the transaction that writes the events, so that records and log never disagree.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from maestoso.core.codec import to_data
from maestoso.core.landing.arrived import arrived
from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.replication.lifecycle import Happening
from maestoso.core.runs.events import ENGINE, Event
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.snapshot import touch
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import forget, move_on
from maestoso.server.runs import fences
from maestoso.server.runs.models import Run

TAKEN_BACK = ("rolled back", "aborted")


def follow(run: Run, events: Sequence[Event], inputs: RunInputs) -> None:
    """Carry the events of a run that is not a test over to the records."""
    for event in events:
        step = str(event.data.get("step", ""))
        if event.kind == "run.started":
            _move(inputs, "re-protect" if run.kind == "re-protect" else "fail over")
        elif event.kind == "step.waits" and step == DECISION:
            _came_up(inputs)
        elif event.kind == "step.skipped" and run.kind == "disaster" and step.startswith("fence:"):
            fences.keep(run, [step.removeprefix("fence:")])
        elif event.kind == "step.skipped" and step == "give-up:run":
            # The source was gone, or was left alone until now: it is told when it answers.
            fences.keep(run, inputs.plan.workloads())
        elif event.kind == "run.finished":
            _finished(run, str(event.data["outcome"]), inputs, event.at)


def _rows(inputs: RunInputs) -> list[GroupRow]:
    codes = [group.code for group in inputs.groups]
    return list(GroupRow.objects.select_for_update().filter(code__in=codes))


def _move(inputs: RunInputs, happening: Happening) -> None:
    for row in _rows(inputs):
        move_on(row, happening)


def _came_up(inputs: RunInputs) -> None:
    """The first time it waits for a decision; from another point it may wait again."""
    for row in _rows(inputs):
        if row.stage == "failing over":
            move_on(row, "came up")


def _finished(run: Run, outcome: str, inputs: RunInputs, at: datetime) -> None:
    if run.kind == "re-protect":
        _move(inputs, "resynced" if outcome == "protected" else "stopped")
    elif outcome == "committed":
        _committed(run, inputs, at)
    else:
        for row in _rows(inputs):
            move_on(row, "roll back" if row.stage == "running uncommitted" else "called off")
        fences.take_back(run)


def _committed(run: Run, inputs: RunInputs, at: datetime) -> None:
    """The workloads are at home at the target; the groups are of the way back, and not copied yet."""
    target, source = Site.objects.get(code=run.target), Site.objects.get(code=run.source)
    _arrive(inputs, source, target)
    ends = inputs.live is not None and inputs.live.at_commit == "end-protection"
    for row in _rows(inputs):
        move_on(row, "commit")
        row.source, row.target = target, source
        row.save(update_fields=["source", "target"])
        if ends:
            move_on(row, "end protection")
            forget(row, by=ENGINE, at=at)
    if inputs.live is not None and inputs.live.at_commit == "re-protect":
        run.follow_up = "re-protect"
    touch()


def _arrive(inputs: RunInputs, source: Site, target: Site) -> None:
    """Every workload as its landing made it. What it was at home is kept until it is back there."""
    landings = {landing.workload: landing for landing in inputs.landings}
    before = {workload.name: workload for workload in inputs.workloads}
    rows = list(WorkloadRow.objects.select_for_update().filter(name__in=list(before)))
    for row in rows:
        own = row.core()
        if row.home and row.home["site"] == target.code:
            row.home = None
        elif not row.home:
            row.home = {
                "site": source.code, "cores": own.cores, "memory_mib": own.memory_mib,
                "nics": to_data(own.nics),
            }  # fmt: skip
        row.site = target
        row.spec = to_data(arrived(before[row.name], landings[row.name]))
        row.revision += 1
    WorkloadRow.objects.bulk_update(rows, ["site", "spec", "home", "revision"])
