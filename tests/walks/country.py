"""A small estate at three sites, made through the application, for walks to begin from."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_interface, ip_network

from maestoso.core.model.crosswalk import AddressRule, Crosswalk, NetworkRow, PoolRow
from maestoso.core.model.estate import (
    Disk,
    HostPool,
    Inventory,
    Link,
    Network,
    Nic,
    Service,
    StoragePool,
    Workload,
)
from maestoso.core.model.plan import Member, Plan, Wave
from maestoso.core.model.protection import Group, Policy
from maestoso.practice.spec import SiteSpec
from maestoso.practice.world import World
from maestoso.server.crosswalks.services import make_crosswalk, make_twin
from maestoso.server.estate.services import register_site, save_link
from maestoso.server.estate.shapes import AgentAt
from maestoso.server.plans.services import make_plan
from maestoso.server.protection.services import make_group
from tests.walks.sites import Clock, NearSite
from tests.worlds import translate_to

START = datetime(2026, 11, 12, 9, 0, tzinfo=UTC)
SITES = {"ALD": ("Alderbay", 1), "BIR": ("Birchfold", 2), "COV": ("Covewell", 3)}
LINKS = (
    Link(one="ALD", other="BIR", bandwidth_bps=1_000_000_000),
    Link(one="ALD", other="COV", bandwidth_bps=1_000_000_000),
)
POLICY = Policy(interval_s=60, rpo_s=300, app_consistent_every_s=0, keep_all_s=3600)


def machine(name: str, site: str, host: int, **changes: object) -> Workload:
    """A small workload that offers one service called after it."""
    low, number = site.lower(), SITES[site][1]
    nic = Nic(
        name="nic0", network=f"{low}-net", mac=f"02:00:00:00:{number:02x}:{host:02x}",
        addresses=(ip_interface(f"10.{number}.0.{host}/24"),), gateways=(f"10.{number}.0.1",),
        dns=(f"10.{number}.0.5",),
    )  # fmt: skip
    made = Workload(
        name=name, cores=1, memory_mib=1024, nics=(nic,),
        disks=(Disk(name="disk0", size_gib=2, storage_pool=f"{low}-disk"),),
        offers=(Service(name=f"{name}-service", protocol="tcp", port=1000 + host),),
    )  # fmt: skip
    return replace(made, **changes)  # type: ignore[arg-type]


AT = {
    "ALD": (
        machine("db", "ALD", 11), machine("app", "ALD", 12, uses=("db-service",)),
        machine("web", "ALD", 13, uses=("app-service", "names-service")), machine("old", "ALD", 14),
        machine("files", "ALD", 15),
    ),
    "BIR": (machine("names", "BIR", 5), machine("batch", "BIR", 40)),
    "COV": (),
}  # fmt: skip


def inventory(site: str) -> Inventory:
    """What a site has."""
    low, number = site.lower(), SITES[site][1]
    return Inventory(
        host_pools=(HostPool(name=f"{low}-hosts", hosts=2, cores=32, memory_mib=65536),),
        storage_pools=(StoragePool(name=f"{low}-disk", capacity_gib=4000),),
        networks=(
            Network(
                name=f"{low}-net", vlan=10, prefixes=(ip_network(f"10.{number}.0.0/24"),),
                gateways=(f"10.{number}.0.1",),
            ),
        ),
        workloads=AT[site],
    )  # fmt: skip


def crosswalk(source: str, target: str) -> Crosswalk:
    """One network, one pool each, one rule."""
    here, there = source.lower(), target.lower()
    prefix, number = f"10.{SITES[source][1]}.0.0/24", SITES[target][1]
    moved = translate_to(f"10.{number}.0.0/24", f"10.{number}.0.1")
    return Crosswalk(
        source=source, target=target,
        networks=(NetworkRow(source=f"{here}-net", live=f"{there}-net"),),
        host_pools=(PoolRow(source=f"{here}-hosts", target=f"{there}-hosts"),),
        storage_pools=(PoolRow(source=f"{here}-disk", target=f"{there}-disk"),),
        address_rules=(AddressRule(prefix=ip_network(prefix), live=moved, test=moved),),
    )  # fmt: skip


def plan(code: str, name: str, *waves: tuple[Member, ...]) -> Plan:
    """A plan from Alderbay to Birchfold."""
    return Plan(
        code=code, name=name, source="ALD", target="BIR", rto_s=3600, rpo_s=300,
        waves=tuple(Wave(name=f"Wave {i + 1}", members=members) for i, members in enumerate(waves)),
    )  # fmt: skip


OFF = Member(workload="old", power_on=False)
PLANS = (
    plan("SHOP", "Shop", (Member(workload="db"), OFF), (Member(workload="app"),), (Member(workload="web"),)),
    plan("FRONT", "Front", (Member(workload="web"), OFF)),
    plan("DATA", "Data", (Member(workload="db"),)),
)  # fmt: skip
GROUPS = (
    Group(code="shop", name="Shop data", source="ALD", target="BIR", members=("db", "app"), policy=POLICY),
    Group(code="front", name="Shop front", source="ALD", target="BIR", members=("web", "old"), policy=POLICY),
)  # fmt: skip


def worlds() -> dict[str, World]:
    """The three sites, with nothing copied yet."""
    made = {}
    for code, (_, number) in SITES.items():
        spec = SiteSpec(code=code, seed=number, inventory=inventory(code), links=LINKS)
        made[code] = World(spec, START - timedelta(hours=1))
        made[code].advance(START.timestamp())
    return made


def make_records(clock: Clock) -> None:
    """Register everything through the application, as a person would."""
    for code, (name, number) in SITES.items():
        register_site(
            code=code, name=name, kind="datacentre", time_zone="UTC", clock=clock,  # type: ignore[arg-type]
            agent=AgentAt(agent_url=f"http://127.0.0.1:{number}", token="x" * 20),
        )  # fmt: skip
    for link in LINKS:
        save_link(link)
    make_crosswalk(crosswalk("ALD", "BIR"))
    make_twin("ALD", "BIR")
    for group in GROUPS:
        make_group(group)
    for one in PLANS:
        make_plan(one, author="ann", at=clock.now())


def near(made: dict[str, World], clock: Clock) -> dict[str, NearSite]:
    """The agents of the sites."""
    return {code: NearSite(world, clock) for code, world in made.items()}
