"""What crosswalks use."""

from __future__ import annotations

from maestoso.server.crosswalks.models import CrosswalkRow
from maestoso.server.estate import usage
from maestoso.server.estate.models import Site
from maestoso.server.estate.usage import Uses


@usage.of_network.hears
def _of_network(site: str, name: str) -> Uses:
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


@usage.of_pool.hears
def _of_pool(site: str, name: str) -> Uses:
    for crosswalk in CrosswalkRow.objects.select_related("source", "target"):
        value = crosswalk.core()
        for pair in (*value.host_pools, *value.storage_pools):
            if (value.source == site and pair.source == name) or (
                value.target == site and pair.target == name
            ):
                yield f"the crosswalk {value.source} to {value.target} names it"


@usage.of_door.hears
def _of_door(site: str, name: str) -> Uses:
    for crosswalk in CrosswalkRow.objects.filter(source__code=site):
        value = crosswalk.core()
        if any(row.source == name for row in value.front_doors):
            yield f"the crosswalk {value.source} to {value.target} names it"


@usage.of_site.hears
def _of_site(site: Site) -> Uses:
    for crosswalk in CrosswalkRow.objects.filter(source=site) | CrosswalkRow.objects.filter(target=site):
        yield f"the crosswalk {crosswalk.source.code} to {crosswalk.target.code} begins or ends there"
