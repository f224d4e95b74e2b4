"""The table of equivalents between two sites, in one direction."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from maestoso.core.model.estate import Interface, Prefix


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkRow:
    """Where adapters of ``source`` go. ``sandbox`` None means: make an isolated one for each test."""

    source: str
    live: str
    sandbox: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class PoolRow:
    """One pool of the source and the pool at the target that takes its place."""

    source: str
    target: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Readdress:
    """What happens to an address: keep it, ask DHCP, or move the host part into the prefix ``to``."""

    action: Literal["keep", "dhcp", "translate"]
    to: Prefix | None = None
    gateway: str | None = None
    dns: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class AddressRule:
    """For addresses inside ``prefix``; the longest matching prefix wins."""

    prefix: Prefix
    live: Readdress
    test: Readdress


@dataclass(frozen=True, slots=True, kw_only=True)
class StaticEntry:
    """A table entry for one NIC; it beats every rule. None for a side means that the rules decide it."""

    workload: str
    nic: str
    live: tuple[Interface, ...] | None = None
    test: tuple[Interface, ...] | None = None
    live_gateway: str | None = None
    test_gateway: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Crosswalk:
    """Site ``source`` to site ``target``."""

    source: str
    target: str
    networks: tuple[NetworkRow, ...] = ()
    host_pools: tuple[PoolRow, ...] = ()
    storage_pools: tuple[PoolRow, ...] = ()
    address_rules: tuple[AddressRule, ...] = ()
    static: tuple[StaticEntry, ...] = ()
    new_macs: bool = True
