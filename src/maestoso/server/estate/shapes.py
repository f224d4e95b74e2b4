"""What the API says of sites and workloads."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from maestoso.core.estate.difference import Difference
from maestoso.core.estate.uses import Use
from maestoso.core.files import Complaint
from maestoso.core.landing.room import InUse
from maestoso.core.model.estate import (
    FrontDoor,
    HostPool,
    Link,
    Network,
    OddMachine,
    SiteLimits,
    StoragePool,
    Workload,
)
from maestoso.core.model.finding import Finding


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadBrief:
    """A workload, for choosing. ``group`` is empty where nobody protects it."""

    name: str
    site: str
    group: str
    os_family: str
    cores: int
    memory_mib: int
    tags: dict[str, str]
    addresses: tuple[str, ...]
    size_gib: int
    left_out: bool
    offers: tuple[str, ...]
    uses: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """A stretch of the workloads that a filter found, and how many there are in all."""

    total: int
    protected: int
    matched: int
    rows: tuple[WorkloadBrief, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Neighbour:
    """A workload at the other end of a use. ``protected_by`` is its group; empty names mean nobody."""

    workload: str
    service: str
    protected_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LandsNic:
    """Where an adapter would be at the other site."""

    nic: str
    before: str
    live: str
    test: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Lands:
    """Where a workload would come down, or what is in the way."""

    target: str
    target_code: str
    host_pool: str
    nics: tuple[LandsNic, ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class PastRun:
    """A run that the workload was part of."""

    id: int
    plan_name: str
    outcome: str
    ended_at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadDetail:
    """Everything of one workload."""

    site: str
    group: str
    revision: int
    workload: Workload
    needs: tuple[Neighbour, ...]
    needed_by: tuple[Neighbour, ...]
    plans: tuple[str, ...]
    lands: Lands | None
    runs: tuple[PastRun, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadMake:
    """A new workload."""

    site: str
    workload: Workload


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadChange:
    """A changed workload. The revision it is based on comes in If-Match."""

    workload: Workload


@dataclass(frozen=True, slots=True, kw_only=True)
class Tagging:
    """Tags for many: those named, or all that a filter finds."""

    names: tuple[str, ...] = ()
    filter: str | None = None
    add: dict[str, str] = field(default_factory=dict)
    remove: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Changed:
    """How many things changed."""

    changed: int


@dataclass(frozen=True, slots=True, kw_only=True)
class SavedFilterView:
    """A filter that somebody named."""

    name: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteMake:
    """A site to register, with its agent as of :class:`AgentAt`; ``agent_url`` may be ``practice``."""

    code: str
    name: str
    kind: Literal["datacentre", "cloud"] = "datacentre"
    time_zone: str = "UTC"
    agent_url: str = "practice"
    token: str = ""
    enrolment: str = ""
    certificate: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class AgentAt:
    """Where the agent of a site is. An empty token keeps the one that is known; ``enrolment`` is the one-time
    code that the agent printed, for which it gives one. ``certificate`` (PEM) is trusted instead of public
    authorities: that of an authority, or the agent's own.
    """

    agent_url: str
    token: str = ""
    enrolment: str = ""
    certificate: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteChange:
    """What can be changed of a site. ``takes_over``: its inventory is taken over by itself."""

    name: str
    time_zone: str
    takes_over: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteView:
    """A site with its pools, networks and front doors; ``drifted`` counts what its agent says otherwise.

    ``forgot_at``: when its agent was found to have lost its memory, until somebody looked. ``odd`` are
    machines of its inventory that cannot be taken over; ``lacks`` the verbs that its agent does not have.
    ``certificate`` (PEM) is what is trusted for it, empty for public authorities.
    """

    code: str
    name: str
    kind: str
    time_zone: str
    agent_url: str
    practice: bool
    takes_over: bool
    workloads: int
    inventory_at: datetime | None
    lost_because: str | None
    forgot_at: datetime | None
    skew_s: float
    drifted: int
    odd: tuple[OddMachine, ...]
    lacks: tuple[str, ...]
    certificate: str
    certificate_until: datetime | None
    host_pools: tuple[HostPool, ...]
    in_use: dict[str, InUse]
    storage_pools: tuple[StoragePool, ...]
    networks: tuple[Network, ...]
    limits: SiteLimits
    front_doors: tuple[FrontDoor, ...]
    door_addresses: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Sites:
    """All sites and the links between them."""

    sites: tuple[SiteView, ...]
    links: tuple[Link, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """Where a site's agent differs from the records."""

    site: str
    differences: tuple[Difference, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Accept:
    """Differences to take over, by id; None for all."""

    ids: tuple[str, ...] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportRowView:
    """One good row of a file."""

    row: int
    site: str
    name: str
    change: Literal["new", "changed", "same"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportView:
    """An import: how far it is, what it would bring, and what is wrong with the file.

    ``rows`` and ``complaints`` are the first few hundred; the numbers count all. ``left_s`` goes by how it
    went so far, where that is known.
    """

    id: int
    file_name: str
    state: Literal["reading", "ready", "writing", "done", "cancelled", "failed"]
    done: int
    total: int
    left_s: float | None
    problem: str
    new: int = 0
    changed: int = 0
    same: int = 0
    bad: int = 0
    sites: tuple[str, ...] = ()
    links: int = 0
    rows: tuple[ImportRowView, ...] = ()
    complaints: tuple[Complaint, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Confirm:
    """Write what was previewed; ``token`` is for agents of new sites that are no practice sites."""

    token: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class UseMap:
    """Dependencies; ``rows`` are the workloads that appear in it."""

    uses: tuple[Use, ...]
    rows: tuple[WorkloadBrief, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class RetiredView:
    """Something that was retired: a site, workload, link, group, crosswalk, plan or script; by whom, when."""

    id: int
    kind: str
    name: str
    by: str
    at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class BroughtBack:
    """Where what came back is found."""

    page: str
