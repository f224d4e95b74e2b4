"""The table of equivalents between two sites, in one direction."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from maestoso.core.model.estate import Interface, Prefix

Side = Literal["live", "test"]
SIDES: tuple[Side, ...] = ("live", "test")


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkRow:
    """Where adapters of ``source`` go. ``sandbox`` None means: make an isolated one for each test."""

    source: str
    live: str
    sandbox: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class PoolRow:
    """One pool or folder of the source and the one at the target that takes its place."""

    source: str
    target: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Readdress:
    """What happens to an address: keep it, ask DHCP, move the host part into ``to``, or look in the table.

    DHCP with ``to`` asks the target for a reservation by MAC at the moved address. Without ``gateway`` those
    of the adapter are moved like its address; without ``dns`` the adapter keeps its own.
    """

    action: Literal["keep", "dhcp", "translate", "table"]
    to: Prefix | None = None
    gateway: str | None = None
    dns: tuple[str, ...] = ()
    suffix: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class AddressRule:
    """For addresses inside ``prefix``; the longest matching prefix wins."""

    prefix: Prefix
    live: Readdress
    test: Readdress


@dataclass(frozen=True, slots=True, kw_only=True)
class NicSide:
    """What one adapter has on one side, over any rule. None (or False) leaves a thing to the rules.

    With ``dhcp``, ``addresses`` are what the target is asked to reserve. Addresses without ``gateways`` get
    those of their network at the target; without ``dns``, the name servers that the rules would give.
    """

    disconnected: bool = False
    network: str | None = None
    dhcp: bool = False
    addresses: tuple[Interface, ...] | None = None
    gateways: tuple[str, ...] | None = None
    dns: tuple[str, ...] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class NicEntry:
    """A table entry for one NIC; it beats every rule. ``mac`` beats the choice of keeping or making MACs."""

    workload: str
    nic: str
    live: NicSide | None = None
    test: NicSide | None = None
    mac: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadEntry:
    """An exception for one workload: another name, size, folder or pool. None leaves a thing as it is.

    ``storage_pools`` says, by disk, which pool it lands on.
    """

    workload: str
    name: str | None = None
    host_pool: str | None = None
    folder: str | None = None
    cores: int | None = None
    memory_mib: int | None = None
    storage_pools: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class DoorRow:
    """The front door ``source``, by its name, and the address that it has at the target instead.

    ``live`` empty: the same, which can move. ``test``: an address that tests open it at; empty: they do not.
    """

    source: str
    live: str = ""
    test: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Crosswalk:
    """Site ``source`` to site ``target``."""

    source: str
    target: str
    networks: tuple[NetworkRow, ...] = ()
    host_pools: tuple[PoolRow, ...] = ()
    storage_pools: tuple[PoolRow, ...] = ()
    folders: tuple[PoolRow, ...] = ()
    address_rules: tuple[AddressRule, ...] = ()
    table: tuple[NicEntry, ...] = ()
    exceptions: tuple[WorkloadEntry, ...] = ()
    new_macs: bool = True
    front_doors: tuple[DoorRow, ...] = ()
