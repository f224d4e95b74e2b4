"""Who uses what: nothing that is in use is retired without saying by what.

Each feature says what it uses; it marks what says so with the hook of the thing that is used.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain

from maestoso.core.errors import Refused
from maestoso.server.common.hooks import Hook
from maestoso.server.estate.models import Link, Site
from maestoso.server.estate.snapshot import estate

SHOWN = 3
Uses = Iterator[str]
of_workload: Hook[[str], Uses] = Hook()
of_network: Hook[[str, str], Uses] = Hook()
of_pool: Hook[[str, str], Uses] = Hook()
of_door: Hook[[str, str], Uses] = Hook()
of_link: Hook[[Link], Uses] = Hook()
of_site: Hook[[Site], Uses] = Hook()
of_plan: Hook[[str], Uses] = Hook()
"""Uses in words: of a workload by its name, of what a site has by site and name, of a plan by its code."""


def refuse_if_used(what: str, uses: Iterable[Uses], mend: str = "End these uses first.") -> None:
    """Raises Refused naming the first users and how many more there are."""
    found = list(dict.fromkeys(chain.from_iterable(uses)))
    if found:
        more = f" and {len(found) - SHOWN} more" if len(found) > SHOWN else ""
        raise Refused(f"{what} is in use: {'; '.join(found[:SHOWN])}{more}.", mend, code="in-use")


@of_network.hears
def _workloads_on_network(site: str, name: str) -> Uses:
    for row in estate().rows.values():
        if row.site == site and name in row.networks:
            yield f"{row.name} is on it"


@of_pool.hears
def _workloads_on_pool(site: str, name: str) -> Uses:
    for row in estate().rows.values():
        if row.site == site and name in row.pools:
            yield f"{row.name} has a disk on it"


@of_site.hears
def _workloads_of_site(site: Site) -> Uses:
    count = site.workloads.count()
    if count:
        yield f"{count} workloads are there"


@of_site.hears
def _links_of_site(site: Site) -> Uses:
    for link in Link.objects.filter(one=site) | Link.objects.filter(other=site):
        yield f"the link {link.one.code} to {link.other.code} ends there"
