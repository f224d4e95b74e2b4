"""What must hold of a workload or a site before it is taken in: each complaint names a field."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterator
from ipaddress import ip_address

from maestoso.core.errors import BadValue
from maestoso.core.model.door import is_port
from maestoso.core.model.estate import FrontDoor, Inventory, Link, Network, Nic, OddMachine, Workload
from maestoso.core.replication.throttle import minute_of

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._-]{0,62}")
MAC = re.compile(r"[0-9a-f]{2}(:[0-9a-f]{2}){5}")
TAG = re.compile(r"[A-Za-z0-9][A-Za-z0-9._/-]{0,62}")
LARGEST_GIB = 1_000_000
LARGEST_TEXT = 200
MOST_CORES = 4096
MOST_BPS = 10**15
MOST_LATENCY_MS = 60_000
LONGEST_NAME = 120
MOST_MEMORY_MIB = 64 * 1024 * 1024

Complaint = tuple[str, str, str]
"""Field, sentence, remedy."""


def workload_complaints(workload: Workload, site: Inventory | None) -> Iterator[Complaint]:
    """What is wrong with a workload by itself and, where ``site`` is known, at its site."""
    if not NAME.fullmatch(workload.name):
        yield "name", f"{workload.name!r} is no name for a workload.", "Use letters, digits, dots and dashes."
    if not 1 <= workload.cores <= MOST_CORES:
        yield "cores", f"cores is {workload.cores}.", f"Give 1 to {MOST_CORES}."
    if not 1 <= workload.memory_mib <= MOST_MEMORY_MIB:
        yield "memory_mib", f"memory_mib is {workload.memory_mib}.", f"Give 1 to {MOST_MEMORY_MIB}."
    for key in workload.tags:
        if not TAG.fullmatch(key):
            yield "tags", f"{key!r} is no name for a tag.", "Use letters, digits, dots and dashes."
    for kind, names in (
        ("disks", [d.name for d in workload.disks]),
        ("nics", [n.name for n in workload.nics]),
    ):
        for name, times in Counter(names).items():
            if times > 1:
                yield kind, f"{name!r} is there {times} times.", "Give each its own name."
    for service in workload.offers:
        if not 1 <= service.port <= 65535:
            yield "offers", f"{service.name} is on port {service.port}.", "Give a port from 1 to 65535."
    yield from _disk_complaints(workload, site)
    yield from _nic_complaints(workload, site)


def _disk_complaints(workload: Workload, site: Inventory | None) -> Iterator[Complaint]:
    pools = {pool.name for pool in site.storage_pools} if site else set()
    for disk in workload.disks:
        if not 1 <= disk.size_gib <= LARGEST_GIB:
            yield "disks", f"{disk.name} has {disk.size_gib} GiB.", f"Give 1 to {LARGEST_GIB}."
        if disk.left_out_because is not None and not disk.left_out_because.strip():
            yield "disks", f"{disk.name} is left out without a reason.", "Say why it need not be copied."
        if site and disk.storage_pool not in pools:
            known = ", ".join(sorted(pools)) or "none yet"
            yield "disks", f"There is no storage pool {disk.storage_pool!r} there.", f"Known: {known}."


def _nic_complaints(workload: Workload, site: Inventory | None) -> Iterator[Complaint]:
    networks = {network.name: network for network in site.networks} if site else {}
    for nic in workload.nics:
        if not MAC.fullmatch(nic.mac):
            yield "nics", f"{nic.mac!r} is no MAC address.", "Write it as 02:00:5e:10:00:01."
        if site and nic.network not in networks:
            known = ", ".join(sorted(networks)) or "none yet"
            yield "nics", f"There is no network {nic.network!r} there.", f"Known: {known}."
        elif site:
            prefixes = networks[nic.network].prefixes
            for address in nic.addresses:
                if prefixes and not any(address.ip in prefix for prefix in prefixes):
                    shown = ", ".join(map(str, prefixes))
                    yield "nics", f"{address} is not on {nic.network}.", f"Its prefixes are {shown}."
        yield from _nic_texts(nic)


def inventory_complaints(site: Inventory) -> Iterator[Complaint]:
    """What is wrong with pools and networks."""
    for pool in site.host_pools:
        if min(pool.hosts, pool.cores, pool.memory_mib) < 1 or not 0 <= pool.standby_hosts <= pool.hosts:
            yield "host_pools", f"{pool.name} has no hosts, cores or memory.", "Give each at least 1."
    for store in site.storage_pools:
        if store.capacity_gib < 1 or not 0 <= store.used_gib <= store.capacity_gib:
            yield (
                "storage_pools",
                f"{store.name} has {store.used_gib} of {store.capacity_gib} GiB used.",
                "Use at most what there is.",
            )
    names = {network.name for network in site.networks}
    for network in site.networks:
        yield from _network_complaints(network, names)
    for door in site.front_doors:
        yield from _door_complaints(door)
    for kind in ("host_pools", "storage_pools", "networks", "front_doors"):
        for name, times in Counter(item.name for item in getattr(site, kind)).items():
            if times > 1 or not NAME.fullmatch(name):
                yield kind, f"{name!r} is no name, or is there twice.", "Give each a name of its own."


def _network_complaints(network: Network, names: set[str]) -> Iterator[Complaint]:
    if not 0 <= network.vlan <= 4094:
        yield "networks", f"{network.name} has VLAN {network.vlan}.", "Give 0 to 4094."
    for there in network.routes_to:
        if there not in names:
            yield (
                "networks",
                f"{network.name} routes to {there!r}, which is not here.",
                "Name a network of this site.",
            )
    yield from _network_texts(network)


def _door_complaints(door: FrontDoor) -> Iterator[Complaint]:
    if not _is_address(door.address):
        yield (
            "front_doors",
            f"{door.address[:60]!r} of {door.name} is no address.",
            "Give one such as 203.0.113.10.",
        )
    if not door.ports:
        yield "front_doors", f"{door.name} has no ports.", "Give at least one, such as tcp/443."
    for port in door.ports:
        if not is_port(port):
            yield "front_doors", f"{port[:60]!r} of {door.name} is no port.", "Write it as tcp/443 or udp/53."


def unreadable(site: Inventory) -> Iterator[Complaint]:
    """Texts of networks and front doors that cannot be read: nothing could be landed or published there.

    Less than ``inventory_complaints``: what a real site has may be strange, and is still taken over.
    """
    for network in site.networks:
        yield from _network_texts(network)
    for door in site.front_doors:
        yield from _door_complaints(door)


def odd_machines(site: Inventory, elsewhere: Collection[str]) -> Iterator[OddMachine]:
    """Machines that cannot be taken over; ``elsewhere`` are names that are known at other sites."""
    times = Counter(workload.name for workload in site.workloads)
    for workload in site.workloads:
        why = next((sentence for nic in workload.nics for _, sentence, _ in _nic_texts(nic)), "")
        if workload.name in elsewhere:
            why = "A machine of that name is known at another site already; rename one of the two."
        elif times[workload.name] > 1:
            why = f"There are {times[workload.name]} machines of that name."
        elif len(workload.name) > LONGEST_NAME:
            why = f"Its name has {len(workload.name)} characters; {LONGEST_NAME} are possible."
        if why:
            yield OddMachine(name=workload.name, why=why)


def _network_texts(network: Network) -> Iterator[Complaint]:
    for text in (*network.gateways, *network.dns, *network.reservations.values()):
        if not _is_address(text):
            yield "networks", f"{text!r} at {network.name} is no address.", "Give one such as 10.20.4.1."
    for text in network.dhcp_ranges:
        if not _is_range(text):
            yield (
                "networks",
                f"{text!r} at {network.name} is no DHCP range.",
                "Write it as 10.20.10.50-10.20.10.99.",
            )


def _nic_texts(nic: Nic) -> Iterator[Complaint]:
    for text in (*nic.gateways, *nic.dns):
        if not _is_address(text):
            yield "nics", f"{text!r} is no address.", "Give one such as 10.20.4.1."


def link_check(link: Link) -> None:
    """Raises BadValue for a link that cannot be."""
    if not 1 <= link.bandwidth_bps <= MOST_BPS:
        said = f"bandwidth_bps is {link.bandwidth_bps}."
        raise BadValue(said, f"Give bits a second, 1 to {MOST_BPS}.", field="bandwidth_bps")
    if not 0 <= link.loss < 1 or not 0 <= link.latency_ms <= MOST_LATENCY_MS:
        said = f"loss is {link.loss}, latency_ms {link.latency_ms}."
        raise BadValue(said, "Give a loss from 0 to below 1, a latency up to a minute.", field="loss")
    for index, window in enumerate(link.windows):
        for field in ("begins", "ends"):
            minute_of(getattr(window, field), f"windows[{index}].{field}")
        if not 0 <= window.share <= 1 or not window.days:
            raise BadValue(
                f"A window has the share {window.share}.",
                "Give a share from 0 to 1, and at least one day.",
                field=f"windows[{index}]",
            )


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


def _is_range(text: str) -> bool:
    first, _, last = text.partition("-")
    if not (_is_address(first) and _is_address(last)):
        return False
    begin, end = ip_address(first), ip_address(last)
    return begin.version == end.version and int(begin) <= int(end)
