"""What is wrong between landings, and between a landing and what is there already.

Each rule is a small function over one side; ``FINDINGS`` of a landing by itself come from ``resolve``.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from ipaddress import ip_address

from maestoso.core.addressing.translate import parsed
from maestoso.core.landing.ground import Address, Ground, Place, key
from maestoso.core.landing.isolation import Hop, Ways, in_words, leak, reach, ways
from maestoso.core.landing.resolve import Resolved
from maestoso.core.model.crosswalk import Crosswalk, Side
from maestoso.core.model.estate import Network, Workload
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.model.landing import Landing, LandingNic, gets_new_settings


@dataclass(frozen=True)
class Landings:
    """All landings of one side, with what they come from."""

    crosswalk: Crosswalk
    ground: Ground
    side: Side
    workloads: Sequence[Workload]
    resolved: Sequence[Resolved]

    @cached_property
    def adapters(self) -> list[tuple[Workload, Landing, LandingNic]]:
        """Every connected adapter."""
        return [
            (workload, one.landing, nic)
            for workload, one in zip(self.workloads, self.resolved, strict=True)
            for nic in one.landing.nics
            if nic.connected
        ]

    def place(self, nic: LandingNic) -> Place:
        """Where an adapter is; one that a test makes its network for is alone there with the others."""
        if nic.isolated:
            return self.crosswalk.target, nic.network
        return self.ground.segment((self.crosswalk.target, nic.network))

    def network(self, nic: LandingNic) -> Network | None:
        """The network, or the one that the test's own is made like."""
        return self.ground.networks.get((self.crosswalk.target, nic.like))

    @cached_property
    def graph(self) -> Ways:
        """The network graph with these landings in it."""
        hosts = [
            (one.landing.workload, [(self.crosswalk.target, nic.network) for nic in connected])
            for one in self.resolved
            if len(connected := [nic for nic in one.landing.nics if nic.connected]) > 1
        ]
        return ways(self.ground, hosts)

    @cached_property
    def leaks(self) -> dict[Place, tuple[Hop, ...]]:
        """By network that copies of a test sit on: the way to production, where there is one."""
        places = dict.fromkeys((self.crosswalk.target, nic.network) for _, _, nic in self.adapters)
        found = ((place, leak(self.ground, self.graph, place)) for place in places)
        return {place: way for place, way in found if way}


def twice(all_of: Landings) -> Iterator[Finding]:
    """Two adapters on one address of one segment, or with one MAC there."""
    addresses: dict[tuple[Place, int], str] = {}
    macs: dict[tuple[Place, str], str] = {}
    for workload, _, nic in all_of.adapters:
        place = all_of.place(nic)
        for address in nic.addresses:
            other = addresses.setdefault((place, key(address)), workload.name)
            if other != workload.name:
                found = blocks(
                    "address-clash",
                    workload.name,
                    f"{workload.name} and {other} would both have {address.ip} on {nic.like}.",
                    "Give one of them another address.",
                    nic.nic,
                )
                yield replace(found, others=(other,))
        other = macs.setdefault((place, nic.mac), f"{workload.name} {nic.nic}")
        if nic.mac and other != f"{workload.name} {nic.nic}":
            yield blocks(
                "mac-twice",
                workload.name,
                f"{nic.nic} of {workload.name} and {other} would both have the MAC {nic.mac} on {nic.like}.",
                "Let the crosswalk make new MACs, or give one of them another in the table.",
                nic.nic,
            )


def in_use(all_of: Landings) -> Iterator[Finding]:
    """An address or MAC that somebody else has on that segment already."""
    landing = {workload.name for workload in all_of.workloads}
    macs = {
        (all_of.ground.segment((code, nic.network)), nic.mac): other.name
        for code, other in all_of.ground.workloads()
        for nic in other.nics
    }
    for workload, _, nic in all_of.adapters:
        if nic.isolated:
            continue
        held = all_of.ground.holders.get(all_of.place(nic), {})
        for address in nic.addresses:
            holder = held.get(key(address), "")
            if holder and holder not in landing and holder != f"a reservation for {nic.mac}":
                yield blocks(
                    "address-in-use",
                    workload.name,
                    f"{workload.name} would have {address.ip} on {nic.network}, and {holder} has it there.",
                    "Give one of them another address.",
                    nic.nic,
                )
        other = macs.get((all_of.place(nic), nic.mac), "")
        if other and other not in landing:
            yield blocks(
                "mac-twice",
                workload.name,
                f"{nic.nic} of {workload.name} would have the MAC {nic.mac} on {nic.network}, as {other} "
                "has.",
                "Let the crosswalk make new MACs.",
                nic.nic,
            )


def kept_elsewhere(all_of: Landings) -> Iterator[Finding]:
    """A kept address works only where the segment is the same one."""
    if all_of.side == "test":
        return
    for workload, _, nic in all_of.adapters:
        before = next(n for n in workload.nics if n.name == nic.nic)
        source = (all_of.crosswalk.source, before.network)
        if all_of.ground.segment(source) == all_of.place(nic):
            continue
        for address in set(nic.before) & set(nic.addresses):
            yield warns(
                "kept-not-stretched",
                workload.name,
                f"{workload.name} keeps {address.ip} on {nic.network}, which is not stretched with "
                f"{before.network}: nobody finds it there until the route to it moves as well.",
                "Translate the address, or stretch the network.",
                nic.nic,
            )


def gateway_unheld(all_of: Landings) -> Iterator[Finding]:
    """Somebody must answer on the gateway's address."""
    landed = {(all_of.place(nic), key(a)) for _, _, nic in all_of.adapters for a in nic.addresses}
    for workload, _, nic in all_of.adapters:
        network = all_of.network(nic)
        if network is None or nic.isolated:
            continue  # an isolated network has the routers that its copies look for
        held = all_of.ground.holders.get(all_of.ground.segment((all_of.crosswalk.target, nic.like)), {})
        for gateway in nic.gateways:
            address = key(parsed(gateway))
            if address not in held and (all_of.place(nic), address) not in landed:
                listed = ", ".join(network.gateways)
                yield warns(
                    "gateway-unheld",
                    workload.name,
                    f"{workload.name} would send everything to {gateway}, and nobody on {nic.like} has "
                    "that address.",
                    f"The gateway there is {listed}." if listed else "Write the gateway down at the network.",
                    nic.nic,
                )


def dhcp_there(all_of: Landings) -> Iterator[Finding]:
    """DHCP needs a server, and the server needs room for all who have no reservation."""
    wanting: dict[str, list[str]] = {}
    for workload, _, nic in all_of.adapters:
        network = all_of.network(nic)
        if network is None or not nic.dhcp:
            continue
        if not network.dhcp:
            yield blocks(
                "no-dhcp",
                workload.name,
                f"{workload.name} would ask DHCP on {nic.like}, and nobody answers there.",
                "Give it an address by a rule or an entry, or switch DHCP on at the network.",
                nic.nic,
            )
        elif not nic.addresses:
            wanting.setdefault(nic.like, []).append(workload.name)
    for name, asking in wanting.items():
        network = all_of.ground.networks[(all_of.crosswalk.target, name)]
        size, taken = _range_size(network), _leases(all_of, name)
        if network.dhcp_ranges and len(asking) > size - taken:
            yield blocks(
                "dhcp-full",
                name,
                f"{len(asking)} adapters would ask DHCP on {name}; its range has {max(size - taken, 0)} of "
                f"{size} addresses left.",
                "Widen the range, or reserve addresses for some of them.",
            )


def _range_size(network: Network) -> int:
    reserved = {ip_address(text) for text in network.reservations.values()}
    total = 0
    for text in network.dhcp_ranges:
        first, last = (ip_address(end.strip()) for end in text.split("-"))
        inside = sum(1 for address in reserved if _between(first, address, last))
        total += int(last) - int(first) + 1 - inside
    return total


def _between(first: Address, address: Address, last: Address) -> bool:
    return first.version == address.version and int(first) <= int(address) <= int(last)


def _leases(all_of: Landings, name: str) -> int:
    """How many addresses of the range those who are there already have; a test's own network has none."""
    if all_of.side == "test" and all(nic.isolated for _, _, nic in all_of.adapters if nic.like == name):
        return 0
    place = all_of.crosswalk.target, name
    reserved = set(all_of.ground.networks[place].reservations)
    there = all_of.ground.sites[place[0]].workloads
    nics = [nic for workload in there for nic in workload.nics if nic.network == name]
    return sum(1 for nic in nics if nic.dhcp and nic.mac not in reserved)


def in_dhcp_range(all_of: Landings) -> Iterator[Finding]:
    """A static address that the DHCP server may give to somebody else."""
    ranges = {
        place: [tuple(ip_address(end.strip()) for end in text.split("-")) for text in network.dhcp_ranges]
        for place, network in all_of.ground.networks.items()
        if network.dhcp
    }
    for workload, _, nic in all_of.adapters:
        for first, last in ranges.get((all_of.crosswalk.target, nic.like), ()):
            for address in nic.addresses:
                if not nic.dhcp and _between(first, address.ip, last):
                    yield warns(
                        "address-in-dhcp-range",
                        workload.name,
                        f"{workload.name} would have {address.ip}, which the DHCP server of {nic.like} "
                        "gives to others.",
                        "Choose an address outside of its range, or let it have a reservation.",
                        nic.nic,
                    )


def name_taken(all_of: Landings) -> Iterator[Finding]:
    """Two workloads with one name at the target. Test copies are named after their run."""
    if all_of.side == "test":
        return
    target = all_of.ground.sites.get(all_of.crosswalk.target)
    there = {workload.name for workload in target.workloads} if target else set()
    counted = Counter(one.landing.name for one in all_of.resolved)
    for one in all_of.resolved:
        name = one.landing.name
        if name in there or counted[name] > 1:
            yield blocks(
                "name-taken",
                one.landing.workload,
                f"{one.landing.workload} would be called {name} at {all_of.crosswalk.target}, as another is.",
                "Give it another name there.",
            )


def injection_without_agent(all_of: Landings) -> Iterator[Finding]:
    """Addresses are set by the guest agent; without it only DHCP reaches the guest."""
    for workload, landing, _ in all_of.adapters:
        if not workload.guest_agent and any(gets_new_settings(workload, nic) for nic in landing.nics):
            yield warns(
                "injection-without-agent",
                workload.name,
                f"{workload.name} has no guest agent, so its new addresses cannot be set.",
                "Install the agent, or let it have its address by DHCP.",
            )


def dns_stays_behind(all_of: Landings) -> Iterator[Finding]:
    """A name server of the source that will not be where it is asked once the source is gone."""
    if all_of.side == "test":
        return
    source = all_of.crosswalk.source
    asked = {text for _, _, nic in all_of.adapters for text in nic.dns}
    servers = {
        str(address.ip): workload.name
        for workload in (all_of.ground.sites[source].workloads if source in all_of.ground.sites else ())
        for nic in workload.nics
        for address in nic.addresses
        if str(address.ip) in asked
    }
    landed = {str(a.ip) for _, _, nic in all_of.adapters for a in nic.addresses} if servers else set()
    for workload, _, nic in all_of.adapters:
        for text in nic.dns:
            if text in servers and text not in landed:
                yield warns(
                    "dns-stays-behind",
                    workload.name,
                    f"{workload.name} would ask {text} for names, which is {servers[text]} at {source}.",
                    "Give the address rule the name servers that are at the target.",
                    nic.nic,
                )


def leaking(all_of: Landings) -> Iterator[Finding]:
    """A sandbox from which packets come to production, hop by hop."""
    if all_of.side == "live":
        return
    for (_, network), way in all_of.leaks.items():
        if len(way) > 1:
            yield blocks(
                "sandbox-not-isolated",
                network,
                f"A test on {network} reaches production: {in_words(way)}.",
                "Cut this way, or let each test make an isolated network.",
            )


def same_as_production(all_of: Landings) -> Iterator[Finding]:
    """A test address that production has too, where packets find both."""
    if all_of.side == "live" or not all_of.leaks:
        return
    reached: dict[Place, set[Place]] = {}
    for workload, _, nic in all_of.adapters:
        place = (all_of.crosswalk.target, nic.network)
        if place not in all_of.leaks:
            continue
        seen = reached.setdefault(place, reach(all_of.graph, place))
        segments = {all_of.ground.segment(other) for other in seen - {place}}
        for address in nic.addresses:
            for segment in sorted(segments):
                holder = all_of.ground.holders.get(segment, {}).get(key(address))
                if holder:
                    yield blocks(
                        "test-equals-production",
                        workload.name,
                        f"A test copy of {workload.name} would have {address.ip}, which {holder} has on "
                        f"{segment[1]}, and packets find the way between the two.",
                        "Give the test another address, or cut the way.",
                        nic.nic,
                    )


RULES: tuple[Callable[[Landings], Iterator[Finding]], ...] = (
    twice, in_use, kept_elsewhere, gateway_unheld, dhcp_there, in_dhcp_range, name_taken,
    injection_without_agent, dns_stays_behind, leaking, same_as_production,
)  # fmt: skip


def check(all_of: Landings) -> tuple[Finding, ...]:
    """What is wrong with each landing by itself, then what every rule noticed; each once."""
    found = [finding for one in all_of.resolved for finding in one.findings]
    for rule in RULES:
        found += rule(all_of)
    return tuple(dict.fromkeys(found))
