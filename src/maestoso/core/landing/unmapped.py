"""What a source site has that a crosswalk says nothing about, and how many workloads wait for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

from maestoso.core.addressing import block
from maestoso.core.addressing.rule_table import FAMILIES, NONE, RuleTable
from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.model.estate import Workload

Kind = Literal["network", "host pool", "storage pool", "folder", "address rule"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """One thing of the source and the number of workloads that depend on it."""

    kind: Kind
    name: str
    workloads: int


def sources(source: str, ground: Ground) -> tuple[Source, ...]:
    """Everything that can be mapped, in the order in which the site names it; folders by name."""
    site = ground.sites[source]
    nets: dict[str, set[str]] = {network.name: set() for network in site.networks}
    hosts: dict[str, set[str]] = {pool.name: set() for pool in site.host_pools}
    stores: dict[str, set[str]] = {pool.name: set() for pool in site.storage_pools}
    folders: dict[str, set[str]] = {}
    only = next(iter(hosts)) if len(hosts) == 1 else ""
    for workload in site.workloads:
        for nic in workload.nics:
            nets.setdefault(nic.network, set()).add(workload.name)
        for disk in workload.disks:
            if disk.left_out_because is None:
                stores.setdefault(disk.storage_pool, set()).add(workload.name)
        pool = workload.host_pool or only
        if pool:
            hosts.setdefault(pool, set()).add(workload.name)
        if workload.folder:
            folders.setdefault(workload.folder, set()).add(workload.name)
    return tuple(
        Source(kind=kind, name=name, workloads=len(users))
        for kind, found in _kinds(nets, hosts, stores, dict(sorted(folders.items())))
        for name, users in found.items()
    )


def _kinds(*found: Mapping[str, set[str]]) -> Iterable[tuple[Kind, Mapping[str, set[str]]]]:
    kinds: tuple[Kind, ...] = ("network", "host pool", "storage pool", "folder")
    return zip(kinds, found, strict=True)


def unmapped(crosswalk: Crosswalk, ground: Ground) -> tuple[Source, ...]:
    """Sources without a row on which some workload depends, the most wanted first, folders last."""
    mapped: dict[Kind, set[str]] = {
        "network": {row.source for row in crosswalk.networks},
        "host pool": {row.source for row in crosswalk.host_pools},
        "storage pool": {row.source for row in crosswalk.storage_pools},
        "folder": {row.source for row in crosswalk.folders},
    }
    found = [
        one for one in sources(crosswalk.source, ground)
        if one.workloads and one.name not in mapped[one.kind]
    ]  # fmt: skip
    found += _without_rule(crosswalk, ground)
    # Without a folder a workload lands all the same, so folders come last.
    return tuple(sorted(found, key=lambda one: (one.kind == "folder", -one.workloads)))


def _without_rule(crosswalk: Crosswalk, ground: Ground) -> Iterable[Source]:
    """Prefixes that static addresses are in and that no rule holds."""
    rules = RuleTable(crosswalk.address_rules, "live")
    entries = {(entry.workload, entry.nic) for entry in crosswalk.table}
    waiting: dict[str, set[str]] = {}
    for family in FAMILIES:
        holders: list[tuple[Workload, str]] = []
        numbers: list[int] = []
        for workload in ground.sites[crosswalk.source].workloads:
            for nic in workload.nics:
                if nic.dhcp or (workload.name, nic.name) in entries:
                    continue
                for address in nic.addresses:
                    if address.version == family:
                        holders.append((workload, str(address.network)))
                        numbers.append(int(address))
        owners = rules.move(block.words(numbers, family), family).rule.tolist()
        for (workload, prefix), owner in zip(holders, owners, strict=True):
            if owner == NONE:
                waiting.setdefault(prefix, set()).add(workload.name)
    return [
        Source(kind="address rule", name=prefix, workloads=len(users)) for prefix, users in waiting.items()
    ]
