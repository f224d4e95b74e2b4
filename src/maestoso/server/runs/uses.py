"""What runs use, and where they appear."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from maestoso.server.estate import usage
from maestoso.server.estate.models import WorkloadRow
from maestoso.server.estate.picture import detail_of
from maestoso.server.estate.shapes import PastRun
from maestoso.server.estate.usage import Uses
from maestoso.server.plans.uses import plans_of
from maestoso.server.protection.picture import points_proved
from maestoso.server.runs.models import Run, RunEvent

RUNS_SHOWN = 5
PROOFS_LOOKED_AT = 50


@usage.of_plan.hears
def _of_plan(code: str) -> Uses:
    for run in Run.objects.filter(plan_code=code, outcome="", last_seq__gt=0):
        yield f"run {run.pk} of it is under way"


@detail_of.hears
def _detail(row: WorkloadRow) -> dict[str, Any]:
    runs = Run.objects.filter(plan_code__in=plans_of(row.name)).exclude(outcome="")[:RUNS_SHOWN]
    return {
        "runs": tuple(
            PastRun(id=run.pk, plan_name=run.plan_name, outcome=run.outcome, ended_at=run.ended_at)
            for run in runs
        )
    }


@points_proved.hears
def _proved(group: str) -> Mapping[str, int]:
    found: dict[str, int] = {}
    starts = RunEvent.objects.filter(kind="run.started", run__outcome="passed").order_by("-run_id")
    for run, copied in starts.values_list("run_id", "data__inputs__groups")[:PROOFS_LOOKED_AT]:
        for copy in json.loads(copied) if isinstance(copied, str) else copied:
            if copy["code"] == group and copy["point"]:
                found.setdefault(copy["point"]["id"], run)
    return found
