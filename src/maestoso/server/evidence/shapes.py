"""What the API says of evidence."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from maestoso.core.evidence.comparison import Comparison
from maestoso.core.evidence.evidence_file import Verification
from maestoso.core.evidence.report import Report
from maestoso.core.score import ScoreStep


@dataclass(frozen=True, slots=True, kw_only=True)
class AdditionView:
    """A note (``text``) or a file (``name``) that was added after the run; ``holds`` is whether it is as it
    was signed."""

    number: int
    by: str
    at: datetime
    text: str
    name: str
    media_type: str
    size: int
    sha256: str
    holds: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RunEvidence:
    """A run as its evidence shows it. ``verification`` is None while the run goes on; ``report`` is None
    where its log was touched so that it cannot be read.

    ``legal_hold`` is why it is kept beyond its time; ``leaves_at`` when retention would remove it.
    """

    report: Report | None
    verification: Verification | None
    sealed_at: datetime | None
    additions: tuple[AdditionView, ...]
    legal_hold: str
    leaves_at: datetime | None
    others: tuple[int, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class NoteAdded:
    """A note to a run that has ended."""

    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LegalHold:
    """Why a run must be kept; empty lets it go when its time has come."""

    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SealKey:
    """A public key as a JWK (RFC 7517, RFC 8037); ``kid`` is its thumbprint (RFC 7638)."""

    kid: str
    kty: str
    crv: str
    x: str
    alg: str
    use: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SealKeys:
    """A JWK set. ``current`` signs; ``check`` is the script with which a stranger verifies."""

    keys: tuple[SealKey, ...]
    current: str
    check: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """Two runs beside each other, with their scores; waves by name."""

    earlier: Report
    later: Report
    comparison: Comparison
    earlier_steps: tuple[ScoreStep, ...]
    later_steps: tuple[ScoreStep, ...]
    earlier_waves: tuple[str, ...]
    later_waves: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrendRun:
    """One run of a plan in numbers; None where it never came to be judged."""

    run: int
    kind: str
    outcome: str
    at: datetime
    version: int
    rto_s: float | None
    rpo_s: float | None
    people_s: float
    failures: int
    rto_objective_s: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Trend:
    """All sealed runs of a plan, oldest first, and what its newest version promises."""

    plan: str
    plan_name: str
    rto_objective_s: int
    rpo_objective_s: int
    runs: tuple[TrendRun, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ProofMark:
    """A run that proved, or did not: the day is that at the target."""

    run: int
    kind: str
    outcome: str
    at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ServiceProof:
    """A service of a member, and the last run that passed in which it answered (None: never)."""

    workload: str
    service: str
    run: int | None
    at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanProof:
    """A plan over a year. A proof holds for ``holds_days``; ``due_at`` is when the last one goes stale."""

    plan: str
    name: str
    owner: str
    marks: tuple[ProofMark, ...]
    services: tuple[ServiceProof, ...]
    holds_days: int
    last_at: datetime | None
    due_at: datetime | None
    overdue: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Proof:
    """Coverage of proof in a year, and the sentence that sums it up; ``unplanned`` are in no plan."""

    sentence: str
    year: int
    first_year: int
    plans: tuple[PlanProof, ...]
    unplanned: tuple[str, ...]


def key_of(kid: str, key: dict[str, Any]) -> SealKey:
    """A JWK as the API says it."""
    return SealKey(kid=kid, kty=key["kty"], crv=key["crv"], x=key["x"], alg=key["alg"], use=key["use"])
