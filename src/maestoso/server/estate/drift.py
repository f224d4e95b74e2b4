"""What a site agent says beside what the records say, and taking it over."""

from __future__ import annotations

from collections.abc import Iterable

from django.core.cache import cache

from maestoso.core.errors import NotFound, Refused
from maestoso.core.estate.difference import Difference, differences, merged
from maestoso.core.ports import Clock
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.models import Site
from maestoso.server.estate.services import ask_inventory, store_inventory
from maestoso.server.estate.snapshot import estate, workloads_changed

KEPT_S = 60


def drift(site: Site) -> tuple[Difference, ...]:
    """The differences now. Raises Refused where the agent says nothing."""
    said, inventory = ask_inventory(site)
    if said.inventory == site.inventory_mark:
        return ()
    return differences(site.core(), inventory)


def drifted(site: Site) -> int:
    """How many things differ, without waiting for a site that is away; 0 where nothing is known."""
    taken = pulse(site)
    if taken.said is None or taken.said.inventory == site.inventory_mark:
        return 0
    # A commit changes the records and not what is known of the agent's inventory.
    key = f"drift:{site.pk}:{site.inventory_mark}:{taken.said.inventory}:{estate().mark}"
    known: int | None = cache.get(key)
    if known is None:
        try:
            known = len(drift(site))
        except Refused:
            return 0  # it was lost since its last pulse
        cache.set(key, known, KEPT_S)
    return known


def accept(site: Site, ids: Iterable[str], clock: Clock) -> int:
    """Take some differences over. Raises NotFound for one that is not there (any more)."""
    said, inventory = ask_inventory(site)
    known = site.core()
    open_ids = {one.id for one in differences(known, inventory)}
    wanted = set(ids)
    unknown = sorted(wanted - open_ids)
    if unknown:
        raise NotFound(f"{unknown[0]} does not differ any more.", "Look at the differences again.")
    # Only when nothing is left over does the record know this inventory of the agent.
    mark = said.inventory if wanted == open_ids else ""
    store_inventory(site, merged(known, inventory, wanted), mark, clock)
    workloads_changed()
    return len(wanted)


def accept_all(site: Site, clock: Clock) -> int:
    """Take all differences over."""
    return accept(site, [one.id for one in drift(site)], clock)
