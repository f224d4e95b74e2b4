"""The resolved landing of one workload, live or in a test, and what is wrong with it."""

from __future__ import annotations

from dataclasses import dataclass
from ipaddress import ip_address, ip_interface
from typing import Literal

from maestoso.core.addressing.translate import is_reserved, new_mac, rule_for, translate
from maestoso.core.errors import BadValue
from maestoso.core.model.crosswalk import Crosswalk, NetworkRow, Readdress, StaticEntry
from maestoso.core.model.estate import Interface, Inventory, Nic, Prefix, Workload
from maestoso.core.model.finding import Finding, blocks

Side = Literal["live", "test"]


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingNic:
    """One adapter at the target. ``before`` are its addresses at the source."""

    nic: str
    network: str
    isolated: bool
    mac: str
    dhcp: bool
    before: tuple[Interface, ...]
    addresses: tuple[Interface, ...]
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingDisk:
    """One disk at the target."""

    disk: str
    storage_pool: str
    size_gib: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Landing:
    """Where and how one workload comes down at the target."""

    workload: str
    side: Side
    host_pool: str
    cores: int
    memory_mib: int
    disks: tuple[LandingDisk, ...]
    nics: tuple[LandingNic, ...]


def sandbox_name(live_network: str) -> str:
    """The name of the isolated network that a test makes in place of ``live_network``."""
    return f"{live_network}.sandbox"


def resolve(
    workload: Workload, crosswalk: Crosswalk, target: Inventory, side: Side
) -> tuple[Landing, tuple[Finding, ...]]:
    """Compute the landing of ``workload`` and the findings about it.

    A row that is missing leaves its field empty in the landing and is a finding that blocks.
    """
    findings: list[Finding] = []
    pools = {row.source: row.target for row in crosswalk.storage_pools}
    disks = []
    for disk in workload.disks:
        if disk.left_out_because is not None:
            continue
        pool = pools.get(disk.storage_pool, "")
        disks.append(LandingDisk(disk=disk.name, storage_pool=pool, size_gib=disk.size_gib))
        findings += _storage_findings(workload, disk.storage_pool, pool, target)
    host_pool = crosswalk.host_pools[0].target if crosswalk.host_pools else ""
    if not host_pool:
        findings.append(
            blocks(
                "no-host-pool-row",
                workload.name,
                f"{workload.name} has no host pool to run on at {crosswalk.target}.",
                f"Add a host pool row to the crosswalk {crosswalk.source} to {crosswalk.target}.",
            )
        )
    nics = []
    for nic in workload.nics:
        landed, noticed = _land_nic(workload, nic, crosswalk, target, side)
        findings += noticed
        if landed is not None:
            nics.append(landed)
    landing = Landing(
        workload=workload.name,
        side=side,
        host_pool=host_pool,
        cores=workload.cores,
        memory_mib=workload.memory_mib,
        disks=tuple(disks),
        nics=tuple(nics),
    )
    return landing, tuple(findings)


def _storage_findings(workload: Workload, source: str, pool: str, target: Inventory) -> list[Finding]:
    if not pool:
        sentence = f"{workload.name} has a disk on {source}, and the crosswalk says no pool for it."
        return [blocks("no-storage-row", workload.name, sentence, f"Add a row for {source}.")]
    found = next((candidate for candidate in target.storage_pools if candidate.name == pool), None)
    if found is not None and found.replicated:
        return [
            blocks(
                "landing-pool-replicated",
                workload.name,
                f"{workload.name} would land on {pool}, which is itself replicated and cannot be written to.",
                f"Map {source} to a pool that is not replicated.",
            )
        ]
    return []


def _land_nic(
    workload: Workload, nic: Nic, crosswalk: Crosswalk, target: Inventory, side: Side
) -> tuple[LandingNic | None, list[Finding]]:
    row = next((row for row in crosswalk.networks if row.source == nic.network), None)
    if row is None:
        sentence = (
            f"{workload.name} has an adapter on {nic.network}, and the crosswalk says no network for it."
        )
        mend = f"Add a row for {nic.network} to the crosswalk."
        return None, [blocks("no-network-row", workload.name, sentence, mend)]
    network, isolated = _network_for(row, side)
    static = next((e for e in crosswalk.static if e.workload == workload.name and e.nic == nic.name), None)
    addresses, gateways, dns, dhcp, findings = _readdress(workload, nic, crosswalk, static, side)
    landed = LandingNic(
        nic=nic.name,
        network=network,
        isolated=isolated,
        mac=new_mac(workload.name, nic.name, side) if crosswalk.new_macs else nic.mac,
        dhcp=dhcp,
        before=nic.addresses,
        addresses=addresses,
        gateways=gateways,
        dns=dns,
    )
    place = target.network(row.live)
    if place is None:
        sentence = f"The crosswalk sends {nic.network} to {row.live}, which {crosswalk.target} does not have."
        mend = f"Choose a network that {crosswalk.target} has."
        findings.append(blocks("network-unknown", workload.name, sentence, mend))
    else:
        findings += _address_findings(workload, landed, place.prefixes)
    if side == "test" and not isolated:
        fixed = target.network(network)
        if fixed is None or fixed.role != "sandbox":
            sentence = f"A test copy of {workload.name} would sit on {network}, which is not a sandbox."
            findings.append(
                blocks("sandbox-not-isolated", workload.name, sentence, "Choose a sandbox network.")
            )
    return landed, findings


def _network_for(row: NetworkRow, side: Side) -> tuple[str, bool]:
    """The network's name, and whether the test itself makes it."""
    if side == "live":
        return row.live, False
    if row.sandbox is None:
        return sandbox_name(row.live), True
    return row.sandbox, False


_Addresses = tuple[tuple[Interface, ...], tuple[str, ...], tuple[str, ...], bool, list[Finding]]


def _readdress(
    workload: Workload, nic: Nic, crosswalk: Crosswalk, static: StaticEntry | None, side: Side
) -> _Addresses:
    if static is not None:
        fixed = static.live if side == "live" else static.test
        gateway = static.live_gateway if side == "live" else static.test_gateway
        if fixed is not None:
            return fixed, (gateway,) if gateway else nic.gateways, nic.dns, False, []
    if nic.dhcp and not nic.addresses:
        return (), (), (), True, []
    addresses: list[Interface] = []
    gateways: list[str] = []
    dns: list[str] = []
    findings: list[Finding] = []
    dhcp = nic.dhcp
    for before in nic.addresses:
        rule = rule_for(before, crosswalk.address_rules)
        if rule is None:
            findings.append(
                blocks(
                    "no-address-rule",
                    workload.name,
                    f"No address rule holds {before.ip} of {workload.name}.",
                    "Add a rule for its prefix: keep, DHCP or translate.",
                )
            )
            continue
        readdress = rule.live if side == "live" else rule.test
        if readdress.action == "dhcp":
            dhcp = True
            continue
        try:
            addresses.append(_moved(before, rule.prefix, readdress))
        except BadValue as error:
            findings.append(blocks(error.code, workload.name, error.sentence, error.remedy))
            continue
        gateways += _gateways(nic, before, rule.prefix, readdress)
        dns += readdress.dns or nic.dns
    if dhcp:
        return (), (), (), True, findings
    return tuple(addresses), tuple(gateways), tuple(dict.fromkeys(dns)), False, findings


def _gateways(nic: Nic, before: Interface, prefix: Prefix, readdress: Readdress) -> list[str]:
    """The rule's gateway; without one, those of the adapter, moved like its address."""
    if readdress.gateway:
        return [readdress.gateway]
    moved = []
    for gateway in (ip_interface(g) for g in nic.gateways):
        if gateway.version == before.version:
            inside = gateway.ip in prefix
            moved.append(str((_moved(gateway, prefix, readdress) if inside else gateway).ip))
    return moved


def _moved(before: Interface, prefix: Prefix, readdress: Readdress) -> Interface:
    if readdress.action == "keep":
        return before
    if readdress.to is None:
        raise BadValue(
            "An address rule says translate, but not to which prefix.",
            "Give the rule its target prefix.",
            code="rule-incomplete",
        )
    return translate(before, prefix, readdress.to)


def _address_findings(workload: Workload, landed: LandingNic, prefixes: tuple[Prefix, ...]) -> list[Finding]:
    findings = []
    for address in landed.addresses:
        if not any(address.ip in prefix for prefix in prefixes):
            listed = ", ".join(map(str, prefixes)) or "nothing"
            sentence = f"{workload.name} would have {address.ip} on {landed.network}, which carries {listed}."
            findings.append(
                blocks("address-outside-prefix", workload.name, sentence, "Mend the address rule.")
            )
        if is_reserved(address):
            sentence = f"{address.ip} of {workload.name} is the network or broadcast address of its prefix."
            findings.append(blocks("reserved-address", workload.name, sentence, "Give it another address."))
    for gateway in landed.gateways:
        if landed.addresses and not any(ip_address(gateway) in a.network for a in landed.addresses):
            sentence = f"The gateway {gateway} of {workload.name} is outside the prefix of its address."
            findings.append(
                blocks("gateway-outside-prefix", workload.name, sentence, "Give the rule another gateway.")
            )
    return findings


def clashes(landings: tuple[Landing, ...]) -> tuple[Finding, ...]:
    """Findings for two adapters that would have one address on one network."""
    seen: dict[tuple[str, str], str] = {}
    findings = []
    for landing in landings:
        for nic in landing.nics:
            for address in nic.addresses:
                place = (nic.network, str(address.ip))
                other = seen.setdefault(place, landing.workload)
                if other != landing.workload:
                    findings.append(
                        blocks(
                            "address-clash",
                            landing.workload,
                            f"{landing.workload} and {other} would both have {address.ip} on {nic.network}.",
                            "Give one of them another address.",
                        )
                    )
    return tuple(findings)
