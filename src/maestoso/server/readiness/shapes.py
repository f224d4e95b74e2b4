"""What the API says of what plans would do, and is asked to start."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from maestoso.core.forecast.helps import Help
from maestoso.core.model.estate import SiteLimits
from maestoso.core.model.finding import Finding
from maestoso.core.model.plan import Plan
from maestoso.core.model.protection import ChangeRate, RecoveryPoint
from maestoso.core.people.approvals import ApprovalRule
from maestoso.core.planning.inputs import AtCommit, CommitOrRollBack, Kind, Probed
from maestoso.core.score import ForecastStep, ScoreStep
from maestoso.server.plans.shapes import FileProblem
from maestoso.server.runs.shapes import TrapView

Urgency = Literal["now", "soon", "sometime"]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanFileRead:
    """What a plan file says. ``plan`` is None where it cannot be read; nothing is saved by reading.

    ``problems`` beside a plan are things that the estate does not know. ``findings`` are those of the plan.
    """

    plan: Plan | None
    problems: tuple[FileProblem, ...]
    findings: tuple[Finding, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Draft:
    """A plan that is not saved, and the version it began from.

    ``limits`` are what the target is imagined to do at once, instead of what it does.
    """

    plan: Plan
    based_on: int
    limits: SiteLimits | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class MendAsked:
    """A draft and the finding about it that is to be mended; without ``others``, the first that fits."""

    plan: Plan
    code: str
    subject: str
    part: str = ""
    others: tuple[str, ...] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Mended:
    """The draft with the finding mended."""

    plan: Plan


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastFigures:
    """Machine seconds until the last required check; ``decides`` is the workload that decides the time."""

    p10_s: float
    p50_s: float
    p80_s: float
    p95_s: float
    chance: float
    objective_s: int
    decides: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AssessmentView:
    """Findings worst first; ``forecast`` is None and ``steps`` empty where none can be made.

    ``waves`` are the names of all waves, those of parts first; the plan's own begin at ``own_from``.
    """

    findings: tuple[Finding, ...]
    blocked: bool
    forecast: ForecastFigures | None
    steps: tuple[ForecastStep, ...]
    waves: tuple[str, ...]
    own_from: int
    changes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Helps:
    """Changes that would save time, best first."""

    helps: tuple[Help, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ComparedRun:
    """A run against the forecast it began with, in machine seconds."""

    run: int
    started_at: datetime
    outcome: str
    p10_s: float
    p50_s: float
    p80_s: float
    p95_s: float
    took_s: float
    inside: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Calibration:
    """How good the forecasts of a plan were."""

    sentence: str
    runs: tuple[ComparedRun, ...]


FaultKind = Literal[
    "none", "boot-hangs", "never-boots", "boot-slow", "clone-fails", "service-silent", "script-fails",
    "site-slow", "sandbox-leaks",
]  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class RehearsalAsked:
    """A draft to play, and what is to go wrong; ``subject`` is the workload that it goes wrong with."""

    plan: Plan
    fault: FaultKind = "none"
    subject: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class RehearsalView:
    """What came out of a rehearsal, in run seconds; ``log`` and ``failures`` are sentences."""

    sentence: str
    outcome: str
    ready_s: float | None
    ended_s: float
    people_s: float
    objective_s: int
    steps: tuple[ScoreStep, ...]
    waves: tuple[str, ...]
    log: tuple[str, ...]
    failures: tuple[str, ...]
    remains: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupPoints:
    """The points of one group of a plan, oldest first; ``hint`` is the clean-point hint.

    ``proved`` gives the run that passed from a point, by point id.
    """

    group: str
    name: str
    rpo_s: int
    workloads: tuple[str, ...]
    points: tuple[RecoveryPoint, ...]
    changes: tuple[ChangeRate, ...]
    hint: str | None
    proved: dict[str, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanPoints:
    """Points of every group at ``now``; groups need not have points at the same moments."""

    now: datetime
    groups: tuple[GroupPoints, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class RunOptions:
    """What a person chooses: the kind, a point id per group (the newest for the rest), and how it is run.

    ``apart`` gives single workloads another point of their group, at the price of write order.
    ``cleanup_after_s`` wall seconds after the start a test ends by itself; 0 means never. An ``unattended``
    test asks nobody anything and judges itself. The rest is for runs that move production: see LiveChoices.
    ``declared_at`` is when the outage began, if it was before. ``tell`` are people who are told of the run,
    and roles (such as role:conductor): whoever has them at the start.
    ``probe`` are services that a test probes all the time.
    """

    kind: Kind = "test"

    points: dict[str, str] = field(default_factory=dict)
    apart: dict[str, str] = field(default_factory=dict)
    sync_first: bool = False
    pace: int = 1
    cleanup_after_s: int = 0
    unattended: bool = False
    close_down: bool = True
    go_on: bool = False
    decide_within_s: int = 0
    then: CommitOrRollBack = "roll-back"
    at_commit: AtCommit = "nothing"
    declared_at: datetime | None = None
    acknowledged: bool = False
    force_after_s: int | None = None
    tell: tuple[str, ...] = ()
    probe: tuple[Probed, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class KindOffered:
    """A kind of run that can be chosen, or why it cannot be now. ``title`` says it by its consequence."""

    kind: Kind
    title: str
    sentence: str
    why_not: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RunNotes:
    """What was noted at the verdict or decision of an earlier run, and added to it later."""

    run: int
    kind: str
    ended_at: datetime
    outcome: str
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Preflight:
    """What would happen, in words, and whether it may. ``blocking`` is what is in the way of this kind;
    ``workloads`` how many it is about, those of parts included. ``approvals`` is how many signatures
    it needs, and ``approvers`` who may give one.

    ``source_lost`` is why the source does not answer, if it does not; ``services`` are those that a test can
    probe all the time; ``notes`` those of earlier runs, newest first; ``traps`` what is known to go wrong.
    """

    assessment: AssessmentView
    kinds: tuple[KindOffered, ...]
    workloads: int
    blocking: tuple[Finding, ...]
    source: str
    source_name: str
    target: str
    target_name: str
    source_lost: str
    consequences: tuple[str, ...]
    practice: bool
    usual_pace: int
    notes: tuple[RunNotes, ...]
    traps: tuple[TrapView, ...]
    services: tuple[Probed, ...]
    approvals: int
    approvers: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class NextAction:
    """Something to do; ``to`` is the address of the page where it is done.

    ``code`` is its kind and ``about`` the one thing that it is about: together the same as long as it is the
    same matter, whatever its sentence says meanwhile.
    """

    code: str
    urgency: Urgency
    title: str
    sentence: str
    label: str
    to: str
    about: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class StartRun:
    """Start a run of the newest version of a plan. ``options`` are those of the preflight.

    ``confirm`` is the code of the plan, typed again, for a run that moves production. ``reason`` is why it is
    started in spite of what preflight warns of; it is kept in the evidence. ``approval`` is the request that
    was granted, whose choices count then. ``emergency`` is why a disaster run is started without
    approvals that it needs.
    """

    plan: str
    options: RunOptions = field(default_factory=RunOptions)
    confirm: str = ""
    reason: str = ""
    approval: int = 0
    emergency: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalRules:
    """What needs second signatures."""

    rules: tuple[ApprovalRule, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalAsked:
    """Somebody wants to start a run with these choices, and says why."""

    plan: str
    options: RunOptions
    reason: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class DeedAsked:
    """Somebody wants to do something that needs second signatures: what was refused without them.

    ``path`` stands behind ``/api/v1/``, ``body`` is JSON as text, ``based_on`` the header If-Match.
    """

    method: str
    path: str
    body: str = ""
    based_on: str = ""
    reason: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class DeedView:
    """What is asked for beside the start of a run, and in words what is sent, or what changes by it."""

    method: str
    path: str
    body: str
    based_on: str
    details: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalSaid:
    """An answer to a request; refusing wants a text."""

    granted: bool
    text: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class AnswerView:
    """What somebody said to a request."""

    by: str
    at: datetime
    granted: bool
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalView:
    """A request for second signatures: to start a run with ``options``, or for a ``deed``, which
    ``plan_name`` then says in words.

    ``why_not`` is why whoever asks cannot answer it; ``run`` is the run that was started with it.
    """

    id: int
    plan: str
    plan_name: str
    plan_version: int
    kind: str
    options: RunOptions | None
    deed: DeedView | None
    reason: str
    asked_by: str
    asked_at: datetime
    ends_at: datetime
    needed: int
    state: str
    answers: tuple[AnswerView, ...]
    approvers: tuple[str, ...]
    why_not: str
    run: int | None
