"""What the API says of crosswalks."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from maestoso.core.files import Complaint
from maestoso.core.landing.match import Proposal
from maestoso.core.landing.room import Room
from maestoso.core.landing.twin import OneWay
from maestoso.core.landing.unmapped import Source
from maestoso.core.model.crosswalk import Crosswalk, NicEntry, Side
from maestoso.core.model.estate import FrontDoor, HostPool, Network, StoragePool
from maestoso.core.model.finding import Finding
from maestoso.core.model.landing import LandingDisk


@dataclass(frozen=True, slots=True, kw_only=True)
class CrosswalkLine:
    """One direction. ``revision`` 0: there is no crosswalk yet; then ``workloads`` could land by one."""

    source: str
    source_name: str
    target: str
    target_name: str
    revision: int
    workloads: int
    plans: tuple[str, ...]
    unmapped: int
    blocks: int
    warns: int
    held: int
    held_wrong: int
    has_twin: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Targets:
    """What the target offers to land on; ``door_addresses``: those that front doors can have there."""

    networks: tuple[Network, ...]
    host_pools: tuple[HostPool, ...]
    storage_pools: tuple[StoragePool, ...]
    folders: tuple[str, ...]
    door_addresses: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class CrosswalkDetail:
    """A crosswalk with both its ends. ``revision`` 0: it is not made yet, and empty."""

    crosswalk: Crosswalk
    revision: int
    changed_by: str
    changed_at: datetime | None
    source_name: str
    target_name: str
    sources: tuple[Source, ...]
    source_networks: tuple[Network, ...]
    source_doors: tuple[FrontDoor, ...]
    targets: Targets
    has_twin: bool
    plans: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class CrosswalkSaved:
    """The revision that a save made."""

    revision: int


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingsAsked:
    """Which rows of the before-and-after table are wanted, for a crosswalk that need not be saved."""

    crosswalk: Crosswalk
    filter: str = ""
    only_findings: bool = False
    offset: int = 0
    limit: int = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class SideView:
    """One side of one adapter. ``decided``: the prefix of a rule, ``table``, ``dhcp``, or nothing."""

    network: str
    addresses: tuple[str, ...]
    gateways: tuple[str, ...]
    dns: tuple[str, ...]
    suffix: str
    mac: str
    dhcp: bool
    isolated: bool
    connected: bool
    decided: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingFinding:
    """A finding and the side it is about."""

    side: Literal["live", "test", "both"]
    finding: Finding


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingRow:
    """One adapter of one workload, before and after; ``nic`` is empty for a workload without any.

    ``exception`` says that the workload or this adapter has one.
    """

    workload: str
    group: str
    nic: str
    network: str
    before: str
    live: SideView | None
    test: SideView | None
    name: str
    host_pool: str
    cores: int
    memory_mib: int
    folder: str
    disks: tuple[LandingDisk, ...]
    exception: bool
    findings: tuple[LandingFinding, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class DoorView:
    """A front door before and after; ``live`` and ``test`` are empty where it does not open."""

    name: str
    workload: str
    ports: tuple[str, ...]
    before: str
    live: str
    test: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomView:
    """What one side asks of one pool."""

    side: Side
    room: Room


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingsView:
    """The before-and-after table: a stretch of its rows, and what is wrong beside them.

    ``findings`` are those that no single workload has; ``blocks`` and ``warns`` count all of them. ``placed``
    are the workloads that nothing keeps from landing.
    """

    workloads: int
    placed: int
    adapters: int
    matched: int
    rows: tuple[LandingRow, ...]
    findings: tuple[LandingFinding, ...]
    blocks: int
    warns: int
    unmapped: tuple[Source, ...]
    rooms: tuple[RoomView, ...]
    doors: tuple[DoorView, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposals:
    """Rows that could be added, for a person to look at."""

    proposals: tuple[Proposal, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TwinMade:
    """The twin's revision, and what it lacks."""

    revision: int
    one_way: tuple[OneWay, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TableText:
    """A CSV file as text."""

    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TableRead:
    """Entries that were read, and what was wrong with the other rows. Nothing is saved by reading."""

    entries: tuple[NicEntry, ...]
    complaints: tuple[Complaint, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Trial:
    """Addresses to try the rules on."""

    crosswalk: Crosswalk
    addresses: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Tried:
    """What one address becomes; ``rule`` is the prefix that decides, or empty."""

    before: str
    rule: str
    live: str
    test: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Trials:
    """In the order of the addresses."""

    tried: tuple[Tried, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldView:
    """A landing that a site was asked to hold for a workload of ``source``; ``wrong`` is empty if it does."""

    workload: str
    source: str
    wrong: str
    host_pool: str
    adapters: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldAsked:
    """Workloads whose landing is asked for once more."""

    workloads: tuple[str, ...]
