"""All sites as the landing rules look at them, kept in memory until something of them changes."""

from __future__ import annotations

import threading
from dataclasses import replace
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.landing.ground import Ground, Home
from maestoso.core.model.estate import Inventory, Nic, Workload
from maestoso.server.estate.catalogue import catalogue
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.services import all_workloads

_kept: tuple[str, dict[str, Any], Ground] | None = None
_lock = threading.Lock()


def ground() -> Ground:
    """The ground as it is now; the same object as long as nothing changed."""
    global _kept
    rows = catalogue()
    inventories: dict[str, Any] = dict(Site.objects.values_list("code", "inventory"))
    with _lock:
        if _kept is None or _kept[:2] != (rows.mark, inventories):
            there: dict[str, list[Workload]] = {code: [] for code in inventories}
            for name, workload in all_workloads().items():
                there[rows.rows[name].site].append(workload)
            sites = {code: _site(inventory, tuple(there[code])) for code, inventory in inventories.items()}
            _kept = rows.mark, inventories, Ground(sites, _homes())
        return _kept[2]


def _homes() -> dict[str, Home]:
    """Of workloads that are away; what left before adapters were kept has none."""
    rows = WorkloadRow.objects.filter(home__isnull=False).values_list("name", "home")
    return {
        name: Home(site=home["site"], nics=tuple(from_data(Nic, nic) for nic in home["nics"]))
        for name, home in rows
        if home and "nics" in home
    }


def _site(inventory: Any, workloads: tuple[Workload, ...]) -> Inventory:
    return replace(from_data(Inventory, inventory), workloads=workloads)
