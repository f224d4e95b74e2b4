"""What a file would bring in: nothing is written before a person has seen it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from maestoso.core.files import Complaint
from maestoso.core.model.estate import (
    FrontDoor,
    HostPool,
    Link,
    Network,
    Prefix,
    SiteLimits,
    StoragePool,
    Workload,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteRow:
    """A site of an estate file. ``agent`` is its address, or ``practice`` for a site simulated here."""

    code: str
    name: str
    kind: Literal["datacentre", "cloud"] = "datacentre"
    time_zone: str = "UTC"
    agent: str = "practice"
    host_pools: tuple[HostPool, ...] = ()
    storage_pools: tuple[StoragePool, ...] = ()
    networks: tuple[Network, ...] = ()
    limits: SiteLimits = field(default_factory=SiteLimits)
    front_doors: tuple[FrontDoor, ...] = ()
    door_addresses: tuple[Prefix, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadRow:
    """A workload, the row it stood in, and the site it is at."""

    row: int
    site: str
    workload: Workload


@dataclass(frozen=True, slots=True, kw_only=True)
class Staged:
    """Everything good of a file, and what was wrong with the rest. ``rows`` counts both."""

    rows: int
    sites: tuple[SiteRow, ...] = ()
    links: tuple[Link, ...] = ()
    workloads: tuple[WorkloadRow, ...] = ()
    complaints: tuple[Complaint, ...] = ()


def repeated(workloads: list[WorkloadRow]) -> tuple[list[WorkloadRow], list[Complaint]]:
    """The first of every name, and a complaint for each later row of the same name or MAC."""
    names: dict[str, int] = {}
    macs: dict[str, tuple[str, int]] = {}
    good, complaints = [], []
    for item in workloads:
        name = item.workload.name
        if name in names:
            said = f"{name} is in row {names[name]} already."
            complaints.append(Complaint(row=item.row, column="name", sentence=said))
            continue
        names[name] = item.row
        clash = next((macs[nic.mac] for nic in item.workload.nics if nic.mac in macs), None)
        if clash is not None:
            said = f"{name} has a MAC address that {clash[0]} in row {clash[1]} has."
            complaints.append(Complaint(row=item.row, column="nics", sentence=said))
            continue
        macs |= {nic.mac: (name, item.row) for nic in item.workload.nics}
        good.append(item)
    return good, complaints


def outcome(
    rows: int,
    workloads: list[WorkloadRow],
    complaints: list[Complaint],
    sites: tuple[SiteRow, ...] = (),
    links: tuple[Link, ...] = (),
) -> Staged:
    """All of it together, complaints in the order of the rows."""
    good, doubled = repeated(workloads)
    ordered = tuple(sorted([*complaints, *doubled], key=lambda one: one.row))
    return Staged(rows=rows, sites=sites, links=links, workloads=tuple(good), complaints=ordered)
