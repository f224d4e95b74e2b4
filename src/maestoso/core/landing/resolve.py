"""Crosswalk and workloads in, resolved landings out: the only place where addresses are decided.

A thing that is missing leaves its field empty in the landing and is a finding. What is wrong between
landings, or between a landing and what is there already, is judged in ``checks``.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from ipaddress import IPv4Interface, IPv6Interface, ip_interface
from typing import NamedTuple

from maestoso.core.addressing import block
from maestoso.core.addressing.rule_table import FAMILIES, NONE, RuleTable
from maestoso.core.addressing.translate import is_reserved, new_mac, parsed, translate, within
from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import Crosswalk, NetworkRow, NicSide, Readdress, Side, WorkloadEntry
from maestoso.core.model.estate import Disk, Interface, Nic, Prefix, Workload
from maestoso.core.model.finding import Finding, blocks, note
from maestoso.core.model.landing import Landing, LandingDisk, LandingNic

_NO_EXCEPTION = WorkloadEntry(workload="")
_NO_ENTRY = NicSide()


@dataclass(frozen=True, slots=True, kw_only=True)
class Resolved:
    """A landing and what is wrong with it by itself."""

    landing: Landing
    findings: tuple[Finding, ...]


def sandbox_name(live_network: str) -> str:
    """The name of the isolated network that a test makes in place of ``live_network``."""
    return f"{live_network}.sandbox"


def resolve(
    workloads: Sequence[Workload], crosswalk: Crosswalk, ground: Ground, side: Side
) -> tuple[Resolved, ...]:
    """The landings of ``workloads`` on one side, in their order."""
    return _Resolver(crosswalk, ground, side).all(workloads)


@dataclass(slots=True)
class _Addresses:
    """What an adapter gets, while it is found out."""

    addresses: list[Interface] = field(default_factory=list)
    gateways: list[str] = field(default_factory=list)
    dns: list[str] = field(default_factory=list)
    suffix: str = ""
    dhcp: bool = False
    decided: str = ""


class _Decided(NamedTuple):
    """What the rules say of one address: the rule's position (-1: none), the moved number, if it fits."""

    rule: int
    number: int
    fits: bool


class _Resolver:
    def __init__(self, crosswalk: Crosswalk, ground: Ground, side: Side) -> None:
        self.crosswalk, self.ground, self.side = crosswalk, ground, side
        # The first row of a source counts; a second one is a finding of the crosswalk.
        self.networks = {row.source: row for row in reversed(crosswalk.networks)}
        self.host_pools = {row.source: row.target for row in reversed(crosswalk.host_pools)}
        self.storage_pools = {row.source: row.target for row in reversed(crosswalk.storage_pools)}
        self.folders = {row.source: row.target for row in reversed(crosswalk.folders)}
        self.exceptions = {entry.workload: entry for entry in crosswalk.exceptions}
        self.table = {(entry.workload, entry.nic): entry for entry in crosswalk.table}
        self.rules = RuleTable(crosswalk.address_rules, side)

    def all(self, workloads: Sequence[Workload]) -> tuple[Resolved, ...]:
        decided = iter(self._decide(workloads))
        return tuple(self._workload(workload, decided) for workload in workloads)

    def _decide(self, workloads: Sequence[Workload]) -> list[_Decided]:
        """The rules over every address of every adapter at once, in the order of the adapters."""
        found: list[_Decided | None] = []
        at: dict[int, list[int]] = {4: [], 6: []}
        numbers: dict[int, list[int]] = {4: [], 6: []}
        for workload in workloads:
            for nic in workload.nics:
                for address in nic.addresses:
                    at[address.version].append(len(found))
                    numbers[address.version].append(int(address))
                    found.append(None)
        for family in FAMILIES:
            moved = self.rules.move(block.words(numbers[family], family), family)
            results = zip(moved.rule.tolist(), block.numbers(moved.words), moved.fits.tolist(), strict=True)
            for index, (rule, number, fits) in zip(at[family], results, strict=True):
                found[index] = _Decided(rule, number, fits)
        return [one for one in found if one is not None]

    def _workload(self, workload: Workload, decided: Iterator[_Decided]) -> Resolved:
        findings: list[Finding] = []
        exception = self.exceptions.get(workload.name, _NO_EXCEPTION)
        disks = tuple(
            self._disk(workload, disk, exception, findings)
            for disk in workload.disks
            if disk.left_out_because is None
        )
        nics = [
            landed
            for nic in workload.nics
            if (landed := self._nic(workload, nic, [next(decided) for _ in nic.addresses], findings))
        ]
        landing = Landing(
            workload=workload.name,
            side=self.side,
            host_pool=self._host_pool(workload, exception, findings),
            cores=exception.cores or workload.cores,
            memory_mib=exception.memory_mib or workload.memory_mib,
            disks=disks,
            nics=tuple(nics),
            name=exception.name or workload.name,
            folder=self._folder(workload, exception, findings),
        )
        return Resolved(landing=landing, findings=tuple(findings))

    def _host_pool(self, workload: Workload, exception: WorkloadEntry, findings: list[Finding]) -> str:
        pool = exception.host_pool or self.host_pools.get(workload.host_pool, "")
        if not pool and not workload.host_pool and len(set(self.host_pools.values())) == 1:
            pool = next(iter(self.host_pools.values()))  # Nobody said where it runs, and there is one choice.
        if not pool:
            where = f" for {workload.host_pool}" if workload.host_pool else ""
            findings.append(
                blocks(
                    "no-host-pool-row",
                    workload.name,
                    f"{workload.name} has no host pool to run on at {self.crosswalk.target}.",
                    f"Add a host pool row{where} to the crosswalk {self._way()}.",
                )
            )
        elif (self.crosswalk.target, pool) not in self.ground.host_pools:
            findings.append(
                self._unknown("host-pool-unknown", workload.name, workload.name, pool, "host pool")
            )
        return pool

    def _folder(self, workload: Workload, exception: WorkloadEntry, findings: list[Finding]) -> str:
        if exception.folder is not None:
            return exception.folder
        if workload.folder and workload.folder not in self.folders:
            findings.append(
                note(
                    "no-folder-row",
                    workload.name,
                    f"{workload.name} is in {workload.folder}, and the crosswalk says no folder for it.",
                    "Add a folder row; without one it lands outside of any folder.",
                )
            )
        return self.folders.get(workload.folder, "")

    def _disk(
        self, workload: Workload, disk: Disk, exception: WorkloadEntry, findings: list[Finding]
    ) -> LandingDisk:
        source = disk.storage_pool
        pool = exception.storage_pools.get(disk.name) or self.storage_pools.get(source, "")
        known = self.ground.storage_pools.get((self.crosswalk.target, pool))
        if known is not None and not known.replicated:
            return LandingDisk(disk=disk.name, storage_pool=pool, size_gib=disk.size_gib)
        if not pool:
            sentence = f"{workload.name} has a disk on {source}, and the crosswalk says no pool for it."
            mend = f"Add a row for {source}."
            findings.append(blocks("no-storage-row", workload.name, sentence, mend, disk.name))
        elif known is None:
            found = self._unknown("storage-pool-unknown", workload.name, source, pool, "storage pool")
            findings.append(replace(found, part=disk.name))
        else:
            findings.append(
                blocks(
                    "landing-pool-replicated",
                    workload.name,
                    f"{workload.name} would land on {pool}, which is itself replicated and cannot be "
                    "written to.",
                    f"Map {source} to a pool that is not replicated.",
                    disk.name,
                )
            )
        return LandingDisk(disk=disk.name, storage_pool=pool, size_gib=disk.size_gib)

    def _nic(
        self, workload: Workload, nic: Nic, decided: Sequence[_Decided], findings: list[Finding]
    ) -> LandingNic | None:
        entry = self.table.get((workload.name, nic.name))
        side = (entry.live if self.side == "live" else entry.test) if entry else None
        side = side or _NO_ENTRY
        was = self.ground.home_nic(workload.name, nic.name, self.crosswalk.target)
        was = was if self.side == "live" else None
        mac = (
            (entry.mac if entry else None)
            or (was.mac if was else "")
            or (new_mac(workload.name, nic.name, self.side) if self.crosswalk.new_macs else nic.mac)
        )
        if side.disconnected:
            return LandingNic(
                nic=nic.name, network="", isolated=False, mac=mac, dhcp=False, before=nic.addresses,
                addresses=(), connected=False, decided="table", was_dhcp=nic.dhcp,
            )  # fmt: skip
        row = self.networks.get(nic.network)
        if row is None and side.network is None:
            sentence = (
                f"{workload.name} has an adapter on {nic.network}, and the crosswalk says no network for it."
            )
            mend = f"Add a row for {nic.network} to the crosswalk."
            findings.append(blocks("no-network-row", workload.name, sentence, mend, nic.name))
            return None
        network, isolated, like = self._network(row, side)
        if was is not None and was.network == network and _says_nothing_else(side, was):
            # Coming home, it is again what it was: the rules are for those who have not been there.
            landed = LandingNic(
                nic=nic.name, network=network, isolated=False, mac=mac, dhcp=was.dhcp, like=like,
                before=nic.addresses, addresses=self._again(was, like), gateways=was.gateways, dns=was.dns,
                decided="home", was_dhcp=nic.dhcp,
            )  # fmt: skip
        else:
            landed = self._landed(workload, nic, decided, side, (network, isolated, like, mac), findings)
        findings.extend(self._about_network(workload, nic, landed))
        return landed

    def _landed(
        self, workload: Workload, nic: Nic, decided: Sequence[_Decided], side: NicSide,
        place: tuple[str, bool, str, str], findings: list[Finding],
    ) -> LandingNic:  # fmt: skip
        """An adapter by its table entry or the rules; a reservation of the target for its MAC holds."""
        network, isolated, like, mac = place
        got = self._addresses(workload, nic, decided, side, like, findings)
        reserved = self.ground.reservation((self.crosswalk.target, like), mac)
        if got.dhcp and not got.addresses and reserved is not None and self.side == "live":
            got.addresses, got.decided = [reserved], "reservation"
        return LandingNic(
            nic=nic.name, network=network, isolated=isolated, mac=mac, dhcp=got.dhcp, before=nic.addresses,
            addresses=tuple(got.addresses), gateways=_once(got.gateways), dns=_once(got.dns),
            suffix=got.suffix, like=like, decided=got.decided, was_dhcp=nic.dhcp,
        )  # fmt: skip

    def _again(self, was: Nic, like: str) -> tuple[Interface, ...]:
        """Its addresses of then; of one on DHCP, only what is reserved for it."""
        if not was.dhcp:
            return was.addresses
        reserved = self.ground.reservation((self.crosswalk.target, like), was.mac)
        return (reserved,) if reserved is not None else ()

    def _network(self, row: NetworkRow | None, side: NicSide) -> tuple[str, bool, str]:
        """The network's name, whether the test itself makes it, and in whose likeness."""
        if side.network is not None:
            return side.network, False, side.network
        if row is None:
            return "", False, ""
        if self.side == "live":
            return row.live, False, row.live
        if row.sandbox is None:
            return sandbox_name(row.live), True, row.live
        return row.sandbox, False, row.sandbox

    def _addresses(
        self, workload: Workload, nic: Nic, decided: Sequence[_Decided], side: NicSide, like: str,
        findings: list[Finding],
    ) -> _Addresses:  # fmt: skip
        if side.dhcp or side.addresses is not None:
            return self._from_table(nic, decided, side, like)
        got = _Addresses(dhcp=nic.dhcp, decided="dhcp" if nic.dhcp else "")
        for before, one in zip(nic.addresses, decided, strict=True):
            if not nic.dhcp or self._lease_matters(nic, before, one):
                self._by_rule(workload, nic, before, one, got, findings)
        if got.dhcp:
            got.gateways, got.dns = [], []
        return got

    def _from_table(self, nic: Nic, decided: Sequence[_Decided], side: NicSide, like: str) -> _Addresses:
        got = _Addresses(addresses=list(side.addresses or ()), dhcp=side.dhcp, decided="table")
        if side.dhcp:
            return got
        if side.gateways is not None:
            got.gateways = list(side.gateways)
        else:
            network = self.ground.networks.get((self.crosswalk.target, like))
            got.gateways = [
                text for text in (network.gateways if network else ())
                if any(within(parsed(text), address) for address in got.addresses)
            ]  # fmt: skip
        ruled = next((self.rules.sides[one.rule] for one in decided if one.rule != NONE), None)
        got.suffix = ruled.suffix if ruled else ""
        got.dns = list(side.dns if side.dns is not None else (ruled.dns if ruled else ()) or nic.dns)
        return got

    def _lease_matters(self, nic: Nic, before: Interface, one: _Decided) -> bool:
        """What a server gave it last means nothing to the next one, unless it was or is to be reserved."""
        if one.rule == NONE:
            return False
        if self.rules.sides[one.rule].action == "dhcp":
            return True
        return self.ground.reserved_mac((self.crosswalk.source, nic.network), before.ip) == nic.mac

    def _by_rule(
        self, workload: Workload, nic: Nic, before: Interface, one: _Decided, got: _Addresses,
        findings: list[Finding],
    ) -> None:  # fmt: skip
        """What the rule of one address adds."""
        complaint = self._complaint(workload, nic, before, one)
        if complaint is not None:
            findings.append(complaint)
            return
        rule, says = self.rules.rules[one.rule], self.rules.sides[one.rule]
        got.decided = got.decided or self.rules.names[one.rule]
        got.suffix = got.suffix or says.suffix
        if says.action == "dhcp":
            got.dhcp = True
        moves = says.to is not None and says.action != "keep"
        moved = _interface(one.number, says.to.version, says.to.prefixlen) if moves and says.to else before
        if says.action == "dhcp" or nic.dhcp:
            if says.action != "dhcp" or says.to is not None:
                got.addresses.append(moved)
            return
        got.addresses.append(moved)
        got.gateways += _gateways(nic, before, rule.prefix, says)
        got.dns += says.dns or nic.dns

    def _complaint(self, workload: Workload, nic: Nic, before: Interface, one: _Decided) -> Finding | None:
        """Why the rules cannot say what becomes of an address."""
        name = workload.name
        if one.rule == NONE:
            sentence = f"No address rule holds {before.ip} of {name}."
            mend = "Add a rule for its prefix: keep, DHCP, translate or table."
            return blocks("no-address-rule", name, sentence, mend, nic.name)
        rule, says = self.rules.rules[one.rule], self.rules.sides[one.rule]
        if says.action == "table":
            sentence = (
                f"The rule for {rule.prefix} says table, and the table has nothing for {nic.name} of {name}."
            )
            return blocks("no-table-entry", name, sentence, "Give this adapter an entry.", nic.name)
        if says.action == "translate" and says.to is None:
            sentence = f"The rule for {rule.prefix} says translate, but not to which prefix."
            return blocks("rule-incomplete", name, sentence, "Give the rule its target prefix.", nic.name)
        if says.to is not None and says.to.version != rule.prefix.version:
            sentence = f"{rule.prefix} and {says.to} are of different address families."
            return blocks(
                "wrong-family", name, sentence, "Translate IPv4 to IPv4 and IPv6 to IPv6.", nic.name
            )
        if says.to is not None and says.action != "keep" and not one.fits:
            sentence = f"The host part of {before.ip} of {name} does not fit into {says.to}."
            mend = "Use a wider target prefix or a table entry for this adapter."
            return blocks("host-part-does-not-fit", name, sentence, mend, nic.name)
        return None

    def _about_network(self, workload: Workload, nic: Nic, landed: LandingNic) -> Iterator[Finding]:
        """What is wrong with the network, and with the addresses on it."""
        place = self.ground.networks.get((self.crosswalk.target, landed.like))
        name = workload.name
        if place is None:
            yield replace(
                self._unknown("network-unknown", name, nic.network, landed.like, "network"), part=nic.name
            )
            return
        if self.side == "test" and not landed.isolated and place.role != "sandbox":
            sentence = f"A test copy of {name} would sit on {landed.network}, which is not a sandbox."
            yield blocks("sandbox-not-isolated", name, sentence, "Choose a sandbox network.", nic.name)
        bounds = self.ground.bounds[(self.crosswalk.target, landed.like)]
        if landed.isolated:
            # Nobody else is there: an address may be kept that is right at the source.
            bounds = bounds + self.ground.bounds.get((self.crosswalk.source, nic.network), [])
        for address in landed.addresses:
            number = int(address)
            if not any(v == address.version and low <= number <= high for v, low, high in bounds):
                listed = ", ".join(map(str, place.prefixes)) or "nothing"
                sentence = f"{name} would have {address.ip} on {landed.like}, which carries {listed}."
                yield blocks("address-outside-prefix", name, sentence, "Correct the address rule.", nic.name)
            if is_reserved(address):
                sentence = f"{address.ip} of {name} is the network or broadcast address of its prefix."
                yield blocks("reserved-address", name, sentence, "Give it another address.", nic.name)
        for gateway in landed.gateways:
            if landed.addresses and not any(within(parsed(gateway), a) for a in landed.addresses):
                sentence = f"The gateway {gateway} of {name} is outside the prefix of its address."
                mend = "Give the rule another gateway."
                yield blocks("gateway-outside-prefix", name, sentence, mend, nic.name)

    def _unknown(self, code: str, workload: str, source: str, named: str, kind: str) -> Finding:
        target = self.crosswalk.target
        sentence = f"The crosswalk sends {source} to {named}, which {target} does not have."
        return blocks(code, workload, sentence, f"Choose a {kind} that {target} has.")

    def _way(self) -> str:
        return f"{self.crosswalk.source} to {self.crosswalk.target}"


def _says_nothing_else(side: NicSide, was: Nic) -> bool:
    """Whether a table entry gives an adapter nothing but what it had at home."""
    if side.dhcp:
        return was.dhcp
    if side.addresses is None:
        return side.gateways is None and side.dns is None
    gateways, dns = side.gateways or was.gateways, side.dns or was.dns
    return (not was.dhcp, side.addresses, gateways, dns) == (True, was.addresses, was.gateways, was.dns)


def _once(texts: list[str]) -> tuple[str, ...]:
    return tuple(texts) if len(texts) < 2 else tuple(dict.fromkeys(texts))


# As one types, nearly all addresses come out as they did a moment ago, and mostly the same on both sides.
@lru_cache(maxsize=1 << 16)
def _interface(number: int, version: int, prefixlen: int) -> Interface:
    # By the class: a small number alone would be taken for IPv4.
    made = IPv4Interface if version == 4 else IPv6Interface
    return made((number, prefixlen))


def _gateways(nic: Nic, before: Interface, prefix: Prefix, says: Readdress) -> Iterable[str]:
    """The rule's gateway; without one, those of the adapter, moved like its address."""
    if says.gateway:
        return [says.gateway]
    found = []
    for gateway in (ip_interface(g) for g in nic.gateways):
        if gateway.version == before.version:
            fits = says.action == "translate" and says.to is not None and gateway.ip in prefix
            if not fits or says.to is None:
                found.append(str(gateway.ip))
            elif int(gateway) - int(prefix.network_address) < says.to.num_addresses:
                found.append(str(translate(gateway, prefix, says.to).ip))
    return found
