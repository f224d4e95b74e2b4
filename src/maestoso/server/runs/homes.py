"""What a commit means for the estate: where every workload is at home from then on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from maestoso.core.codec import to_data
from maestoso.core.landing.arrived import arrived, arrived_door
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.runs.events import Event
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.services import keep_things
from maestoso.server.estate.snapshot import mark_changed
from maestoso.server.runs.events import inputs_of, taken_over
from maestoso.server.runs.models import Run


def apply_events(run: Run, events: Sequence[Event]) -> None:
    """What was committed arrives at the target."""
    for event in events:
        if taken_over(event):
            _arrive(run)


def _arrive(run: Run) -> None:
    """Every workload as its landing made it. What it was at home is kept until it is back there."""
    inputs = inputs_of(run)
    sites = {
        site.code: site for site in Site.objects.select_for_update().filter(code__in=(run.target, run.source))
    }
    target, source = sites[run.target], sites[run.source]
    landings = {landing.workload: landing for landing in inputs.landings}
    before = {workload.name: workload for workload in inputs.workloads}
    # Those that are there already arrived when the target took them as its own.
    still = WorkloadRow.objects.exclude(site=target)
    rows = list(still.select_for_update().filter(name__in=list(before)))
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
    if rows:
        WorkloadRow.objects.bulk_update(rows, ["site", "spec", "home", "revision"])
        _doors_arrive(inputs, source, target)
        mark_changed()


def _doors_arrive(inputs: RunInputs, source: Site, target: Site) -> None:
    """Front doors that were opened are the target's own, and the source's no more."""
    opened = {one.name: arrived_door(one) for one in inputs.all_opened()}
    if not opened:
        return
    had, has = source.things(), target.things()
    keep_things(source, replace(had, front_doors=tuple(d for d in had.front_doors if d.name not in opened)))
    own = {door.name: door for door in has.front_doors} | opened
    keep_things(target, replace(has, front_doors=tuple(own.values())))
    for site in (source, target):
        site.save(update_fields=["inventory"])
