"""Where every workload runs now: by the records, and by what runs under way have moved so far."""

from __future__ import annotations

from collections.abc import Mapping

from maestoso.core.estate.row import Row
from maestoso.core.planning.inputs import LIVE
from maestoso.core.runs.whereabouts import taken_down, up_at_target
from maestoso.server.estate.agents import Pulse
from maestoso.server.runs.models import Run
from maestoso.server.runs.states import each


def running(rows: Mapping[str, Row], pulses: Mapping[str, Pulse]) -> dict[str, set[str]]:
    """Names of the workloads that run at every site, by its code; without what its site says is off."""
    found: dict[str, set[str]] = {}
    for row in rows.values():
        found.setdefault(row.site, set()).add(row.name)
    for code, taken in pulses.items():
        if taken.said is not None:
            found.setdefault(code, set()).difference_update(taken.said.off)
    for run, state in each(Run.objects.filter(outcome="", last_seq__gt=0, kind__in=LIVE)):
        found.setdefault(run.source, set()).difference_update(taken_down(state))
        found.setdefault(run.target, set()).update(up_at_target(state))
    return found
