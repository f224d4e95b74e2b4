"""What there is to land on: all sites with their workloads, laid out for quick questions."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from ipaddress import IPv4Address, IPv6Address, ip_address, ip_interface

from maestoso.core.model.estate import HostPool, Interface, Inventory, Network, Nic, StoragePool, Workload

Place = tuple[str, str]
"""A network as (site, name)."""
Address = IPv4Address | IPv6Address
Bounds = tuple[int, int, int]
"""A prefix as its family, first and last address."""


def key(address: Address | Interface) -> int:
    """An address as one number over both families."""
    return int(address) if address.version == 4 else int(address) | 1 << 128


@dataclass(frozen=True, slots=True, kw_only=True)
class Home:
    """Where a workload that runs away from home came from, and the adapters that it had there."""

    site: str
    nics: tuple[Nic, ...]


class Ground:
    """``sites`` by code; each inventory holds its workloads. ``homes`` are of workloads that are away."""

    def __init__(self, sites: Mapping[str, Inventory], homes: Mapping[str, Home] | None = None) -> None:
        self.sites = dict(sites)
        self.homes = dict(homes or {})
        self.networks: dict[Place, Network] = {
            (code, network.name): network for code, site in sites.items() for network in site.networks
        }
        self.host_pools: dict[Place, HostPool] = {
            (code, pool.name): pool for code, site in sites.items() for pool in site.host_pools
        }
        self.storage_pools: dict[Place, StoragePool] = {
            (code, pool.name): pool for code, site in sites.items() for pool in site.storage_pools
        }

    def workloads(self) -> Iterator[tuple[str, Workload]]:
        """Every workload with its site."""
        for code, site in self.sites.items():
            for workload in site.workloads:
                yield code, workload

    @cached_property
    def site_of(self) -> dict[str, str]:
        """The site of every workload by name."""
        return {workload.name: code for code, workload in self.workloads()}

    @cached_property
    def _segments(self) -> dict[Place, Place]:
        return {place: min(self.stretch(place)) for place in self.networks}

    def stretch(self, place: Place) -> tuple[Place, ...]:
        """This network and the one at another site that is the same segment, whichever end says so."""
        found = [place]
        for other, network in self.networks.items():
            mine = self.networks.get(place)
            says = mine is not None and mine.stretched_with == "/".join(other)
            if other != place and (says or network.stretched_with == "/".join(place)):
                found.append(other)
        return tuple(found)

    def segment(self, place: Place) -> Place:
        """One name for all networks that are the same segment."""
        return self._segments.get(place, place)

    @cached_property
    def bounds(self) -> dict[Place, list[Bounds]]:
        """The prefixes of every network, as numbers."""
        return {
            place: [
                (prefix.version, int(prefix.network_address), int(prefix.broadcast_address))
                for prefix in network.prefixes
            ]
            for place, network in self.networks.items()
        }

    @cached_property
    def holders(self) -> dict[Place, dict[int, str]]:
        """By segment and ``key`` of an address who holds it: a workload, or words for something else."""
        held: dict[Place, dict[int, str]] = {}
        for place, network in self.networks.items():
            here = held.setdefault(self.segment(place), {})
            for gateway in network.gateways:
                here[key(ip_address(gateway))] = f"the gateway of {network.name}"
            for mac, text in network.reservations.items():
                here[key(ip_address(text))] = f"a reservation for {mac}"
        for code, workload in self.workloads():
            for nic in workload.nics:
                here = held.setdefault(self.segment((code, nic.network)), {})
                for address in nic.addresses:
                    here[key(address)] = workload.name
        return held

    def home_nic(self, workload: str, nic: str, site: str) -> Nic | None:
        """What an adapter was at ``site``, where that is the home that its workload is away from."""
        home = self.homes.get(workload)
        if home is None or home.site != site:
            return None
        return next((one for one in home.nics if one.name == nic), None)

    def reservation(self, place: Place, mac: str) -> Interface | None:
        """The address that a network reserves for a MAC, in the prefix that it is of; None for none."""
        network = self.networks.get(place)
        text = network.reservations.get(mac) if network else None
        if network is None or text is None:
            return None
        address = ip_address(text)
        inside = (p.prefixlen for p in network.prefixes if p.version == address.version and address in p)
        return ip_interface(f"{text}/{next(inside, address.max_prefixlen)}")

    def reserved_mac(self, place: Place, address: Address) -> str:
        """The MAC for which a network reserves an address; empty for none."""
        network = self.networks.get(place)
        found = network.reservations.items() if network else ()
        return next((mac for mac, text in found if ip_address(text) == address), "")
