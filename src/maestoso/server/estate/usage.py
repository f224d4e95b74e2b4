"""Who uses what: nothing that is in use is retired without saying by what."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.errors import Refused
from maestoso.server.crosswalks.models import CrosswalkRow
from maestoso.server.estate.models import Link, Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.models import PlanRow
from maestoso.server.protection.models import GroupRow

SHOWN = 3


def refuse_if_used(what: str, uses: Iterator[str]) -> None:
    """Raises Refused naming the first users and how many more there are."""
    found = list(dict.fromkeys(uses))
    if found:
        more = f" and {len(found) - SHOWN} more" if len(found) > SHOWN else ""
        raise Refused(
            f"{what} is in use: {'; '.join(found[:SHOWN])}{more}.",
            "End these uses first.",
            code="in-use",
        )


def of_workload(name: str) -> Iterator[str]:
    """Uses of a workload."""
    rows = estate().rows
    if name in rows and rows[name].group:
        yield f"group {rows[name].group} protects it"
    for plan in PlanRow.objects.all():
        if name in plan.version().core().workloads():
            yield f"plan {plan.code} brings it up"


def of_network(site: str, name: str) -> Iterator[str]:
    """Uses of a network."""
    for row in estate().rows.values():
        if row.site == site and name in row.networks:
            yield f"{row.name} is on it"
    for crosswalk in CrosswalkRow.objects.select_related("source", "target"):
        value = crosswalk.core()
        way = f"the crosswalk {value.source} to {value.target} names it"
        for pair in value.networks:
            if (value.source == site and pair.source == name) or (
                value.target == site and name in (pair.live, pair.sandbox)
            ):
                yield way
        for entry in value.table:
            sides = (side for side in (entry.live, entry.test) if side is not None)
            if value.target == site and any(side.network == name for side in sides):
                yield way


def of_pool(site: str, name: str) -> Iterator[str]:
    """Uses of a storage or host pool."""
    for row in estate().rows.values():
        if row.site == site and name in row.pools:
            yield f"{row.name} has a disk on it"
    for crosswalk in CrosswalkRow.objects.select_related("source", "target"):
        value = crosswalk.core()
        for pair in (*value.host_pools, *value.storage_pools):
            if (value.source == site and pair.source == name) or (
                value.target == site and pair.target == name
            ):
                yield f"the crosswalk {value.source} to {value.target} names it"


def of_link(link: Link) -> Iterator[str]:
    """Uses of a link."""
    there = GroupRow.objects.filter(source=link.one, target=link.other)
    for group in there | GroupRow.objects.filter(source=link.other, target=link.one):
        yield f"group {group.code} is copied over it"


def of_site(site: Site) -> Iterator[str]:
    """Uses of a site."""
    count = site.workloads.count()
    if count:
        yield f"{count} workloads are there"
    for group in GroupRow.objects.filter(source=site) | GroupRow.objects.filter(target=site):
        yield f"group {group.code} is copied from or to it"
    for crosswalk in CrosswalkRow.objects.filter(source=site) | CrosswalkRow.objects.filter(target=site):
        yield f"the crosswalk {crosswalk.source.code} to {crosswalk.target.code} begins or ends there"
    for plan in PlanRow.objects.all():
        value = plan.version().core()
        if site.code in (value.source, value.target):
            yield f"plan {plan.code} begins or ends there"
    for link in Link.objects.filter(one=site) | Link.objects.filter(other=site):
        yield f"the link {link.one.code} to {link.other.code} ends there"
