"""What plans use."""

from __future__ import annotations

from typing import Any

from maestoso.server.estate import usage
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.picture import detail_of
from maestoso.server.estate.usage import Uses
from maestoso.server.plans.models import PlanRow


def plans_of(name: str) -> tuple[str, ...]:
    """Codes of the plans that bring a workload up."""
    plans = (row.version().core() for row in PlanRow.objects.all())
    return tuple(plan.code for plan in plans if name in plan.workloads())


@detail_of.hears
def _detail(row: WorkloadRow) -> dict[str, Any]:
    return {"plans": plans_of(row.name)}


@usage.of_workload.hears
def _of_workload(name: str) -> Uses:
    for code in plans_of(name):
        yield f"plan {code} brings it up"


@usage.of_site.hears
def _of_site(site: Site) -> Uses:
    for plan in PlanRow.objects.all():
        value = plan.version().core()
        if site.code in (value.source, value.target):
            yield f"plan {plan.code} begins or ends there"
