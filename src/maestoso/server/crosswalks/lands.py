"""Where a single workload would land."""

from __future__ import annotations

from typing import Any

from maestoso.core.landing.actual import in_words, planned
from maestoso.core.landing.judge import judge_landings
from maestoso.core.model.crosswalk import SIDES
from maestoso.server.crosswalks.services import crosswalk_between
from maestoso.server.estate.models import WorkloadRow
from maestoso.server.estate.picture import detail_of
from maestoso.server.estate.shapes import Lands, LandsNic
from maestoso.server.estate.snapshot import estate
from maestoso.server.protection.models import GroupRow


@detail_of.hears
def _detail(row: WorkloadRow) -> dict[str, Any]:
    return {"lands": _lands(row)}


def _lands(row: WorkloadRow) -> Lands | None:
    """At the target of its group; without one nobody knows where it would land."""
    group = GroupRow.objects.select_related("target").filter(members__workload=row).first()
    crosswalk = crosswalk_between(row.site.code, group.target.code) if group else None
    if group is None or crosswalk is None:
        return None
    workload = row.core()
    judged = {
        side: judge_landings(crosswalk, estate().ground, (workload,), side, (workload.name,))
        for side in SIDES
    }
    live, test = judged["live"].landings[0], judged["test"].landings[0]
    in_test = {nic.nic: nic for nic in test.nics}
    nics = [
        LandsNic(
            nic=nic.nic, before=in_words(nic.before, nic.was_dhcp), live=planned(nic),
            test=planned(in_test[nic.nic]) if nic.nic in in_test else "",
        )
        for nic in live.nics
    ]  # fmt: skip
    both = {(f.code, f.sentence): f for side in SIDES for f in judged[side].findings}
    return Lands(
        target=group.target.name, target_code=group.target.code, host_pool=live.host_pool, nics=tuple(nics),
        findings=tuple(both.values()),
    )  # fmt: skip
