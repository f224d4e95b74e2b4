"""The reverse of a crosswalk, and what of it cannot be turned round."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import (
    AddressRule,
    Crosswalk,
    DoorRow,
    NetworkRow,
    NicEntry,
    NicSide,
    PoolRow,
    Readdress,
)
from maestoso.core.model.estate import Prefix


@dataclass(frozen=True, slots=True, kw_only=True)
class OneWay:
    """A row, or a part of one, that the twin lacks."""

    row: str
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Twin:
    """The crosswalk in the other direction."""

    crosswalk: Crosswalk
    one_way: tuple[OneWay, ...]


def twin(crosswalk: Crosswalk, ground: Ground) -> Twin:
    """Turn round what can be turned round."""
    lost: list[OneWay] = []
    networks = _networks(crosswalk, ground, lost)
    rules = _rules(crosswalk, ground, lost)
    made = Crosswalk(
        source=crosswalk.target,
        target=crosswalk.source,
        networks=networks,
        host_pools=_pools(crosswalk.host_pools, "host pool", lost),
        storage_pools=_storage(crosswalk, ground, lost),
        folders=_pools(crosswalk.folders, "folder", lost),
        address_rules=rules,
        table=_table(crosswalk, ground, lost),
        new_macs=crosswalk.new_macs,
        front_doors=_doors(crosswalk, ground, lost),
    )
    for entry in crosswalk.exceptions:
        why = "an exception is about the way there; on the way back it has what it has at home"
        lost.append(OneWay(row=f"exception for {entry.workload}", why=why))
    return Twin(crosswalk=made, one_way=tuple(lost))


def _doors(crosswalk: Crosswalk, ground: Ground, lost: list[OneWay]) -> tuple[DoorRow, ...]:
    """On the way back, a door has the address that it has at home."""
    home = {door.name: door.address for door in ground.sites[crosswalk.source].front_doors}
    found = []
    for row in crosswalk.front_doors:
        if row.live and row.source not in home:
            why = f"{crosswalk.source} does not have it, so its address there is not known"
            lost.append(OneWay(row=f"front door {row.source}", why=why))
            continue
        if row.test:
            why = f"{row.test} is at {crosswalk.target}; say which address tests at {crosswalk.source} have"
            lost.append(OneWay(row=f"front door {row.source} in tests", why=why))
        found.append(DoorRow(source=row.source, live=home[row.source] if row.live else ""))
    return tuple(found)


def _shared(targets: Iterable[str]) -> set[str]:
    return {name for name, times in Counter(targets).items() if times > 1}


def _networks(crosswalk: Crosswalk, ground: Ground, lost: list[OneWay]) -> tuple[NetworkRow, ...]:
    shared = _shared(row.live for row in crosswalk.networks)
    found = []
    for row in crosswalk.networks:
        name = f"network {row.source} to {row.live}"
        if row.live in shared:
            lost.append(
                OneWay(row=name, why=f"{row.live} takes several networks, and only one can be the way back")
            )
            continue
        if row.sandbox is not None:
            why = (
                f"{row.sandbox} is at {crosswalk.target}; tests at {crosswalk.source} make their own network"
            )
            lost.append(OneWay(row=f"sandbox of {row.source}", why=why))
        found.append(NetworkRow(source=row.live, live=row.source))
    return tuple(found)


def _pools(rows: Sequence[PoolRow], kind: str, lost: list[OneWay]) -> tuple[PoolRow, ...]:
    shared = _shared(row.target for row in rows)
    for row in rows:
        if row.target in shared:
            why = f"{row.target} takes several {kind}s, and only one can be the way back"
            lost.append(OneWay(row=f"{kind} {row.source} to {row.target}", why=why))
    return tuple(PoolRow(source=row.target, target=row.source) for row in rows if row.target not in shared)


def _storage(crosswalk: Crosswalk, ground: Ground, lost: list[OneWay]) -> tuple[PoolRow, ...]:
    found = []
    for row in _pools(crosswalk.storage_pools, "storage pool", lost):
        home = ground.storage_pools.get((crosswalk.source, row.target))
        if home is not None and home.replicated:
            why = f"{row.target} is itself replicated and cannot be landed on"
            lost.append(OneWay(row=f"storage pool {row.target} to {row.source}", why=why))
        else:
            found.append(row)
    return tuple(found)


def _rules(crosswalk: Crosswalk, ground: Ground, lost: list[OneWay]) -> tuple[AddressRule, ...]:
    found = []
    for rule in crosswalk.address_rules:
        back = rule.prefix if rule.live.action == "keep" else rule.live.to
        why = _why_not(rule, back, crosswalk.address_rules)
        if back is None or why:
            lost.append(OneWay(row=f"address rule for {rule.prefix}", why=why))
            continue
        home = _home(rule.prefix, crosswalk.source, ground)
        says = Readdress(
            action=rule.live.action,
            to=None if rule.live.action == "keep" else rule.prefix,
            gateway=home[0] if rule.live.gateway else None,
            dns=home[1],
        )
        found.append(AddressRule(prefix=back, live=says, test=says))
    return tuple(found)


def _why_not(rule: AddressRule, back: Prefix | None, rules: Sequence[AddressRule]) -> str:
    """Why a rule has no reverse; empty where it has one."""
    if rule.live.action == "table":
        return "it leaves the addresses to the table"
    if back is None:
        return "it does not say which addresses they get there"
    if back.version != rule.prefix.version:
        return "its two prefixes are of different families"
    offset = int(back.network_address) - int(rule.prefix.network_address)
    for other in rules:
        theirs = other.prefix if other.live.action == "keep" else other.live.to
        if other is rule or theirs is None or theirs.version != back.version or not theirs.overlaps(back):
            continue
        # Nested prefixes that move by the same amount agree about every address in both.
        if int(theirs.network_address) - int(other.prefix.network_address) != offset or theirs == back:
            return f"addresses of {other.prefix} come to the same place"
    return ""


def _home(prefix: Prefix, site: str, ground: Ground) -> tuple[str | None, tuple[str, ...]]:
    """Gateway and name servers that the network with ``prefix`` has at home."""
    for network in ground.sites[site].networks:
        if prefix in network.prefixes:
            inside = (g for g in network.gateways if (":" in g) == (prefix.version == 6))
            return next(inside, None), network.dns or _usual_dns(network.name, site, ground)
    return None, ()


def _usual_dns(network: str, site: str, ground: Ground) -> tuple[str, ...]:
    """What most adapters on a network ask."""
    asked = Counter(
        nic.dns for workload in ground.sites[site].workloads for nic in workload.nics
        if nic.network == network and nic.dns
    )  # fmt: skip
    return asked.most_common(1)[0][0] if asked else ()


def _table(crosswalk: Crosswalk, ground: Ground, lost: list[OneWay]) -> tuple[NicEntry, ...]:
    """On the way back, an adapter of the table has what it has at home."""
    nics = {
        (workload.name, nic.name): nic
        for workload in ground.sites[crosswalk.source].workloads
        for nic in workload.nics
    }
    found = []
    for entry in crosswalk.table:
        nic = nics.get((entry.workload, entry.nic))
        if nic is None:
            why = f"{crosswalk.source} does not have this adapter, so its address there is not known"
            lost.append(OneWay(row=f"table entry for {entry.nic} of {entry.workload}", why=why))
            continue
        home = NicSide(
            dhcp=nic.dhcp,
            addresses=None if nic.dhcp else nic.addresses,
            gateways=None if nic.dhcp else nic.gateways,
            dns=None if nic.dhcp else nic.dns,
        )
        found.append(NicEntry(workload=entry.workload, nic=entry.nic, live=home, test=home))
    return tuple(found)
