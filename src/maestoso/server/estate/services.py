"""What can be done with sites."""

from __future__ import annotations

from django.db import transaction

from maestoso.core.codec import to_data
from maestoso.core.errors import Refused
from maestoso.core.model.estate import Inventory, Workload
from maestoso.core.ports import Clock
from maestoso.server.common.secret_text import seal
from maestoso.server.estate.agents import ask
from maestoso.server.estate.models import Link, Site, WorkloadRow


def register_site(
    *, code: str, name: str, kind: str, time_zone: str, agent_url: str, token: str, clock: Clock
) -> Site:
    """Make a site known and fetch its inventory from its agent."""
    site = Site(code=code, name=name, kind=kind, time_zone=time_zone, agent_url=agent_url)
    site.agent_token = seal(token)
    site.practice = bool(ask(site, lambda agent: agent.capabilities()).get("practice", False))
    site.save()
    fetch_inventory(site, clock)
    return site


def fetch_inventory(site: Site, clock: Clock) -> None:
    """Take over what the site's agent says the site has."""
    inventory = ask(site, lambda agent: agent.inventory())
    with transaction.atomic():
        _store(site, inventory)
        site.inventory_at = clock.now()
        site.save()


def _store(site: Site, inventory: Inventory) -> None:
    site.inventory = {key: value for key, value in to_data(inventory).items() if key != "workloads"}
    for workload in inventory.workloads:
        elsewhere = WorkloadRow.objects.filter(name=workload.name).exclude(site=site).first()
        if elsewhere is not None:
            raise Refused(
                f"{workload.name} is known at {elsewhere.site.name} already.",
                "Names are unique over all sites; rename one of the two.",
            )
        WorkloadRow.objects.update_or_create(
            name=workload.name, defaults={"site": site, "spec": to_data(workload)}
        )


def link_sites(one: Site, other: Site, *, bandwidth_bps: int, latency_ms: float) -> Link:
    """Say what line there is between two sites."""
    return Link.objects.create(one=one, other=other, bandwidth_bps=bandwidth_bps, latency_ms=latency_ms)


def all_workloads() -> dict[str, Workload]:
    """The whole estate by name."""
    return {row.name: row.core() for row in WorkloadRow.objects.all()}
