"""A workload as it is searched: flat, with its site and group."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, ip_interface
from typing import Any


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """``group`` is empty where nobody protects it. Made from data, because building ten thousand whole
    workloads for one search would take longer than the search."""

    name: str
    site: str
    group: str
    os_family: str
    cores: int
    memory_mib: int
    size_gib: int
    owner: str
    criticality: str
    guest_agent: bool
    needs_key: bool
    left_out: bool
    dhcp: bool
    tags: dict[str, str]
    networks: tuple[str, ...]
    pools: tuple[str, ...]
    macs: tuple[str, ...]
    addresses: tuple[str, ...]
    offers: tuple[str, ...]
    uses: tuple[str, ...]

    def hosts(self) -> tuple[IPv4Address | IPv6Address, ...]:
        """The addresses without their prefixes."""
        return tuple(ip_interface(text).ip for text in self.addresses)


def row_of(data: dict[str, Any], site: str, group: str) -> Row:
    """The row of a workload given as data (``to_data`` of a Workload)."""
    disks, nics = data["disks"], data["nics"]
    return Row(
        name=data["name"], site=site, group=group, os_family=data["os_family"], cores=data["cores"],
        memory_mib=data["memory_mib"],
        size_gib=sum(disk["size_gib"] for disk in disks if not disk["left_out_because"]),
        owner=data["owner"], criticality=data["criticality"], guest_agent=data["guest_agent"],
        needs_key=data["needs_key"], left_out=any(disk["left_out_because"] for disk in disks),
        dhcp=any(nic["dhcp"] for nic in nics), tags=data["tags"],
        networks=tuple(nic["network"] for nic in nics),
        pools=tuple(dict.fromkeys(disk["storage_pool"] for disk in disks)),
        macs=tuple(nic["mac"] for nic in nics),
        addresses=tuple(address for nic in nics for address in nic["addresses"]),
        offers=tuple(service["name"] for service in data["offers"]), uses=tuple(data["uses"]),
    )  # fmt: skip
