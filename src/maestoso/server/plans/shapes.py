"""What the API says of plans."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from maestoso.core.model.plan import Plan
from maestoso.core.planning.templates import Template


@dataclass(frozen=True, slots=True, kw_only=True)
class VersionInfo:
    """One saved version."""

    number: int
    summary: str
    author: str
    saved_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanDetail:
    """The newest version of a plan; ``versions`` newest first."""

    plan: Plan
    version: int
    source_name: str
    target_name: str
    versions: tuple[VersionInfo, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanSave:
    """A new version. The version it is based on comes in If-Match."""

    plan: Plan
    summary: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Saved:
    """The number that a version got, and what it says it changed."""

    version: int
    summary: str


@dataclass(frozen=True, slots=True, kw_only=True)
class FileProblem:
    """Something in a plan file that does not fit; line and column from 1."""

    line: int
    column: int
    sentence: str
    remedy: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanText:
    """A plan file."""

    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SuggestAsked:
    """Workloads that are in no plan yet, to be put into the waves of a ``template`` if one is named; or a
    plan that lacks something."""

    workloads: tuple[str, ...] = ()
    plan: Plan | None = None
    template: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Templates:
    """What a plan can begin from."""

    templates: tuple[Template, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class VersionView:
    """One version of a plan, and what changed from it to the version ``against``."""

    number: int
    against: int
    plan: Plan
    changes: tuple[str, ...]
