"""Everything a run is compiled from. It is kept whole in the run's first event."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from maestoso.core.model.estate import SiteLimits, Workload
from maestoso.core.model.landing import Landing
from maestoso.core.model.plan import Plan, RunKind
from maestoso.core.model.protection import RecoveryPoint

COMPILER = 3
"""Number of the rules that turn inputs into steps; a log says which one it was written under.

1: as first released. 2: before the verdict, the site is asked what every adapter really has. 3: cues at one
place come one after the other.
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class ScriptText:
    """A script as it was when the run started; ``sha256`` is that of its text in UTF-8, in hexadecimal."""

    name: str
    interpreter: str
    text: str
    sha256: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupCopy:
    """One group in a run: its members in the plan, and the point their copies are made from."""

    code: str
    members: tuple[str, ...]
    point: RecoveryPoint | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimate:
    """A lognormal duration in machine seconds: ``median_s`` and the ``sigma`` of its logarithm."""

    median_s: float
    sigma: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RunInputs:
    """``mark`` is the suffix that names this run's copies at the target site."""

    kind: RunKind
    plan: Plan
    plan_version: int
    mark: str
    workloads: tuple[Workload, ...]
    landings: tuple[Landing, ...]
    groups: tuple[GroupCopy, ...]
    limits: SiteLimits
    sync_first: bool = False
    pace: float = 1.0
    cleanup_at: datetime | None = None
    scripts: tuple[ScriptText, ...] = ()
    estimates: dict[str, Estimate] = field(default_factory=dict)
    compiler: int = COMPILER
