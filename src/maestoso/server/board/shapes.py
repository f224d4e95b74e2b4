"""The board and the site line, as the API gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from maestoso.core.model.finding import Finding
from maestoso.core.planning.inputs import Kind
from maestoso.core.readiness.if_lost import IfLost
from maestoso.server.readiness.shapes import ForecastFigures, NextAction


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
    """Protection from one site to another; ``oldest_s`` is the age of the oldest of the newest points, and
    ``without_point`` counts the groups that have none."""

    source: str
    target: str
    groups: int
    oldest_s: float | None
    without_point: int


@dataclass(frozen=True, slots=True, kw_only=True)
class LinkLine:
    """A line between two sites; ``cut_because`` where nothing can pass."""

    one: str
    other: str
    cut_because: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Waits:
    """What a run waits for a person for, most urgent first of all; ``since`` when."""

    kind: str
    title: str
    since: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class RunUnderWay:
    """A run on the site line."""

    id: int
    plan_name: str
    kind: str
    source: str
    target: str
    run_s: float
    waits: Waits | None


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteLine:
    """Where does everything run now? ``past`` says that another machine conducts for this installation."""

    stations: tuple[Station, ...]
    flows: tuple[Flow, ...]
    links: tuple[LinkLine, ...]
    runs: tuple[RunUnderWay, ...]
    told: tuple[Told, ...]
    past: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Told:
    """What a notify cue tells everybody, or a run those who are to be told of it."""

    run: int
    step: str
    plan_name: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LastProof:
    """The newest test that was judged."""

    run: int
    ended_at: datetime
    verdict: str
    version: int
    overdue: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class KindState:
    """How a plan stands for a kind of run: what is in the way, in sentences, and how many warnings."""

    kind: Kind
    blocking: tuple[str, ...]
    warns: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanRowView:
    """One line of the readiness board. ``stale`` says in sentences what has changed since the last test.

    ``at_risk_s`` is None where there is no such age, and ``no_risk_because`` then says why.
    """

    code: str
    name: str
    owner: str
    tags: tuple[str, ...]
    source: str
    target: str
    version: int
    workloads: int
    rpo_s: int
    rto_s: int
    drill_every_days: int
    forecast: ForecastFigures | None
    at_risk_s: float | None
    no_risk_because: str
    last_proof: LastProof | None
    active_run: int | None
    kinds: tuple[KindState, ...]
    stale: tuple[str, ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """How a plan stood at a moment: the same as its line on the board says, in short."""

    forecast: ForecastFigures | None
    at_risk_s: float | None
    no_risk_because: str
    last_proof: LastProof | None
    active_run: int | None
    kinds: tuple[KindState, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanLine:
    """A plan in a list. ``standing`` is None until this version of it was looked at."""

    code: str
    name: str
    owner: str
    tags: tuple[str, ...]
    source: str
    target: str
    version: int
    workloads: int
    rpo_s: int
    rto_s: int
    standing: Standing | None


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanList:
    """All plans, and the moment that their standings are of."""

    as_of: datetime | None
    plans: tuple[PlanLine, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Readiness:
    """The board. ``if_lost`` are the sites where anything runs: those that are down, then the largest."""

    now: datetime
    if_lost: tuple[IfLost, ...]
    actions: tuple[NextAction, ...]
    plans: tuple[PlanRowView, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Hit:
    """Something that was found, and the page of it."""

    kind: Literal["plan", "run", "workload", "group", "site", "script", "finding"]
    title: str
    hint: str
    to: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SearchResult:
    """What was found, kind after kind."""

    hits: tuple[Hit, ...]
