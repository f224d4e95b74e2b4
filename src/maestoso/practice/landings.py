"""What a practice site does about landings: keeps reservations, gives leases, says what adapters have."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from ipaddress import ip_address, ip_interface
from typing import TYPE_CHECKING, Any

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue
from maestoso.core.landing.ground import Ground, Place
from maestoso.core.landing.isolation import Hop, leak, ways
from maestoso.core.model.estate import Network
from maestoso.core.model.landing import Landing
from maestoso.practice import doors
from maestoso.practice.things import Copy, Failure, Op

if TYPE_CHECKING:
    from maestoso.practice.world import World

Outcome = tuple[Mapping[str, Any], Mapping[str, Any] | None]


def hold(world: World, op: Op) -> Outcome:
    """Keep landings for workloads that may arrive; those that cannot be are refused one by one, in words."""
    try:
        landings = [from_data(Landing, item, "landing") for item in op.submission.args.get("landings", [])]
    except BadValue as error:
        raise Failure("bad-landing", f"{error.sentence} {error.remedy}") from error
    held, refused = [], {}
    for landing in landings:
        try:
            _refuse_impossible(world, landing)
        except Failure as failure:
            refused[landing.workload] = failure.reason
        else:
            if world.held.get(landing.workload) != landing:
                world.hold(landing)
                held.append(landing.workload)
    return {"refused": refused}, {"held": held} if held else None


def release(world: World, op: Op) -> Outcome:
    """Give reservations back."""
    wanted = [str(name) for name in op.submission.args.get("workloads", [])]
    gone = [name for name in wanted if world.release(name)]
    return {}, {"released": gone} if gone else None


def _refuse_impossible(world: World, landing: Landing) -> None:
    if landing.host_pool not in {pool.name for pool in world.inventory.host_pools}:
        raise Failure("no-such-pool", f"There is no host pool {landing.host_pool!r} here.")
    networks = {network.name for network in world.inventory.networks}
    for nic in landing.nics:
        if nic.connected and nic.network not in networks:
            raise Failure("no-such-network", f"There is no network {nic.network!r} here.")
    pools = {pool.name: pool for pool in world.inventory.storage_pools}
    for disk in landing.disks:
        pool = pools.get(disk.storage_pool)
        if pool is None or pool.replicated:
            what = "cannot be written to" if pool else "is not here"
            raise Failure("no-such-pool", f"The storage pool {disk.storage_pool!r} {what}.")
    for network, address in landing.places():
        holder = world.held_at.get((network, address), landing.workload)
        if holder != landing.workload:
            raise Failure("address-held", f"{address} on {network} is held for {holder} already.")


def network_of(world: World, name: str) -> Network | None:
    """A network of the site, or the one that a made sandbox is like."""
    box = world.sandboxes.get(name)
    return world.inventory.network(box.like if box else name)


def lease(world: World, copy: Copy) -> None:
    """As a copy gets power, its adapters that ask DHCP are given an address, where a server has one."""
    for nic in copy.nics.values():
        if not nic.get("connected", True) or not _asks_dhcp(world, copy, nic):
            continue
        network = network_of(world, nic["network"])
        nic["leased"] = _next_lease(world, nic, network) if network and network.dhcp else []


def _asks_dhcp(world: World, copy: Copy, nic: Mapping[str, Any]) -> bool:
    if "dhcp" in nic:
        return bool(nic["dhcp"])
    guest = next((n for n in world.known[copy.workload].nics if n.name == nic["nic"]), None)
    return "addresses" not in nic and guest is not None and guest.dhcp


def _next_lease(world: World, nic: Mapping[str, Any], network: Network) -> list[str]:
    if nic.get("reserve"):
        return [str(text) for text in nic["reserve"]]
    held = [
        str(address) for landing in world.held.values() for theirs in landing.nics
        if theirs.mac == nic["mac"] and theirs.network == nic["network"] and theirs.dhcp
        for address in theirs.addresses
    ]  # fmt: skip
    if held:
        return held
    length = next((prefix.prefixlen for prefix in network.prefixes if prefix.version == 4), 24)
    if nic["mac"] in network.reservations:
        return [f"{network.reservations[nic['mac']]}/{length}"]
    taken = set(network.reservations.values()) | set(_given(world, nic["network"]))
    for text in network.dhcp_ranges:
        first, last = (ip_address(end.strip()) for end in text.split("-"))
        for number in range(int(last) - int(first) + 1):
            if str(first + number) not in taken:
                return [f"{first + number}/{length}"]
    return []


def _given(world: World, network: str) -> Iterator[str]:
    """Addresses that somebody on a network has."""
    for workload in world.inventory.workloads:
        for nic in workload.nics:
            if nic.network == network:
                yield from (str(address.ip) for address in nic.addresses)
    for copy in world.copies.values():
        for have in copy.nics.values():
            if have["network"] == network:
                found = have.get("leased") or have.get("addresses") or []
                yield from (str(ip_interface(text).ip) for text in found)


def adapters(world: World, copy: Copy) -> list[dict[str, Any]]:
    """What every adapter of a copy really has. A guest that nobody told otherwise has what it always had."""
    found = []
    guest = {nic.name: nic for nic in world.known[copy.workload].nics}
    for nic in copy.nics.values():
        before = guest.get(nic["nic"])
        dhcp = _asks_dhcp(world, copy, nic)
        network = network_of(world, nic["network"])
        if dhcp:
            addresses = nic.get("leased", [])
            gateways = list(network.gateways) if network and addresses else []
            dns = list(network.dns) if network and addresses else []
        elif "addresses" in nic:
            addresses, gateways, dns = nic["addresses"], nic.get("gateways", []), nic.get("dns", [])
        else:
            addresses = [str(address) for address in before.addresses] if before else []
            gateways = list(before.gateways) if before else []
            dns = list(before.dns) if before else []
        found.append(
            {
                "nic": nic["nic"], "network": nic["network"], "mac": nic["mac"], "dhcp": dhcp,
                "connected": bool(nic.get("connected", True)), "addresses": list(addresses),
                "gateways": list(gateways), "dns": list(dns),
            }
        )  # fmt: skip
    return found


def read_adapters(world: World, op: Op) -> Outcome:
    """What the adapters of all copies of a run have, by workload."""
    mark = str(op.submission.args.get("mark", ""))
    copies = [copy for copy in world.copies.values() if copy.mark == mark and copy.registered]
    return {
        "adapters": {copy.workload: adapters(world, copy) for copy in copies},
        "doors": doors.found(world, mark),
    }, None


def way_to_production(world: World, first: str, mark: str) -> tuple[Hop, ...]:
    """Follow every route, segment and copy from a network; empty where none leads to production."""
    code = world.spec.code
    boxes = tuple(
        Network(name=box.name, vlan=0, prefixes=(), role="sandbox", routes_to=box.routes_to)
        for box in world.sandboxes.values()
    )
    site = replace(world.inventory, networks=(*world.inventory.networks, *boxes))
    ground = Ground({code: site})
    joined: list[tuple[str, list[Place]]] = [
        (copy.name, places)
        for copy in world.copies.values()
        if copy.mark == mark
        and (places := [(code, n["network"]) for n in copy.nics.values() if n.get("connected", True)])
    ]
    return leak(ground, ways(ground, joined), (code, first))
