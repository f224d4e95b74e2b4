"""What a commit means for the estate: where every workload is at home from then on."""

from __future__ import annotations

from collections.abc import Sequence

from maestoso.core.codec import to_data
from maestoso.core.landing.arrived import arrived
from maestoso.core.runs.events import Event
from maestoso.server.estate.models import Site, WorkloadRow
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
    target, source = Site.objects.get(code=run.target), Site.objects.get(code=run.source)
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
        mark_changed()
