"""What the API says of sites and workloads."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Station:
    """A site on the site line. ``copies`` are test copies of runs that are under way."""

    code: str
    name: str
    kind: str
    practice: bool
    running: int
    copies: int
    lost_because: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Flow:
    """Protection from one site to another; ``newest_s`` is the age of the oldest of the newest points."""

    source: str
    target: str
    groups: int
    newest_s: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class RunUnderWay:
    """A run on the site line."""

    id: int
    plan_name: str
    kind: str
    source: str
    target: str
    run_s: float
    needs_you: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteLine:
    """Where does everything run now?"""

    stations: tuple[Station, ...]
    flows: tuple[Flow, ...]
    runs: tuple[RunUnderWay, ...]
    plans: tuple[PlanName, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanName:
    """A plan, for menus and the palette."""

    code: str
    name: str
    workloads: tuple[str, ...]


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
    offers: tuple[str, ...]
    uses: tuple[str, ...]
