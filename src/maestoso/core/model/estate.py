"""What a site has: pools, networks and workloads."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv4Interface, IPv4Network, IPv6Interface, IPv6Network
from typing import Literal

Interface = IPv4Interface | IPv6Interface
Prefix = IPv4Network | IPv6Network


@dataclass(frozen=True, slots=True, kw_only=True)
class HostPool:
    """Compute to run on. ``standby_hosts`` of the ``hosts`` must be woken before they carry load."""

    name: str
    hosts: int
    standby_hosts: int = 0
    cores: int
    memory_mib: int
    used_cores: int = 0
    used_memory_mib: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class StoragePool:
    """Space to store on. A pool that is itself replicated cannot be landed on."""

    name: str
    capacity_gib: int
    used_gib: int = 0
    replicated: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Network:
    """One layer-2 segment. ``stretched_with`` names the same segment at another site (``SITE/network``).

    ``routes_to`` lists networks of this site that packets can reach from here through a router.
    ``dhcp_ranges`` are written ``first-last``; ``reservations`` give a MAC its address.
    """

    name: str
    vlan: int
    prefixes: tuple[Prefix, ...]
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()
    role: Literal["production", "sandbox", "transit"] = "production"
    dhcp: bool = False
    dhcp_ranges: tuple[str, ...] = ()
    reservations: dict[str, str] = field(default_factory=dict)
    stretched_with: str | None = None
    routes_to: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Disk:
    """One disk. A disk that is left out of replication says why."""

    name: str
    size_gib: int
    storage_pool: str
    left_out_because: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Nic:
    """One network adapter: static addresses, or DHCP (then ``addresses`` is what it was given last)."""

    name: str
    network: str
    mac: str
    dhcp: bool = False
    addresses: tuple[Interface, ...] = ()
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Service:
    """Something a workload answers on. ``name`` is what others name in ``uses``.

    ``protocol`` is ``tcp``, ``udp``, ``http``, ``https``, or another that a site knows.
    """

    name: str
    protocol: str
    port: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Workload:
    """One virtual machine. ``host_pool`` and ``folder`` are empty where the site did not say.

    ``os_family`` is ``linux``, ``bsd``, ``appliance``, or another that a site knows.
    """

    name: str
    os_family: str = "linux"
    cores: int
    memory_mib: int
    disks: tuple[Disk, ...]
    nics: tuple[Nic, ...]
    tags: dict[str, str] = field(default_factory=dict)
    owner: str = ""
    criticality: Literal["vital", "important", "deferrable"] = "important"
    guest_agent: bool = True
    needs_key: bool = False
    offers: tuple[Service, ...] = ()
    uses: tuple[str, ...] = ()
    host_pool: str = ""
    folder: str = ""

    @property
    def size_gib(self) -> int:
        """Sum of the replicated disks."""
        return sum(disk.size_gib for disk in self.disks if disk.left_out_because is None)


@dataclass(frozen=True, slots=True, kw_only=True)
class FrontDoor:
    """An address of a site that others come to from outside, and the workload that it leads to.

    ``ports`` are written ``tcp/443``. Whoever is in none of ``sources`` finds it closed; where there are
    none, it is open to everybody.
    """

    name: str
    address: str
    ports: tuple[str, ...]
    workload: str
    sources: tuple[Prefix, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteLimits:
    """How many operations of a class the site carries out at once."""

    power: int = 4
    copies: int = 4
    clones: int = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class ThrottleWindow:
    """On ``days``, from ``begins`` to ``ends`` (``HH:MM`` UTC), copies get only ``share`` of a link."""

    days: tuple[Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"], ...]
    begins: str
    ends: str
    share: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Link:
    """The line between two sites; both ways have ``bandwidth_bps`` bits a second each."""

    one: str
    other: str
    bandwidth_bps: int
    latency_ms: float = 0.0
    loss: float = 0.0
    windows: tuple[ThrottleWindow, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Inventory:
    """What a site agent says its site has. ``door_addresses``: those that its front doors can have; where
    there are none, nothing is said of that."""

    host_pools: tuple[HostPool, ...] = ()
    storage_pools: tuple[StoragePool, ...] = ()
    networks: tuple[Network, ...] = ()
    workloads: tuple[Workload, ...] = ()
    limits: SiteLimits = field(default_factory=SiteLimits)
    folders: tuple[str, ...] = ()
    front_doors: tuple[FrontDoor, ...] = ()
    door_addresses: tuple[Prefix, ...] = ()

    def network(self, name: str) -> Network | None:
        """The network of that name, or None."""
        return next((network for network in self.networks if network.name == name), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class OddMachine:
    """A machine of an inventory that cannot be taken over, and why, as a sentence."""

    name: str
    why: str
