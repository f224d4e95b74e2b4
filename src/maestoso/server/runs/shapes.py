"""What the API says of runs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from maestoso.core.landing.actual import Outcome
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.runs.attempts import Attempt
from maestoso.core.runs.needs import Need
from maestoso.core.runs.watching import Outage, Probes
from maestoso.core.score import ScoreStep


@dataclass(frozen=True, slots=True, kw_only=True)
class Control:
    """Something a person tells a run.

    ``kind`` is hold, resume, abort, retry, skip, answer, verdict, commit, roll-back or change-point; the last
    names a ``group`` and a ``point`` of it.
    """

    kind: str
    step: str = ""
    text: str = ""
    verdict: str = ""
    group: str = ""
    point: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class RunLine:
    """One line of the list of runs. ``outcome`` is empty while the run goes on.

    ``rpo_s``, ``people_s`` and ``failures`` are those of its seal. ``removed``: its log was deleted.
    ``emergency`` is why it was started without the approvals that it needs, ``review`` what ``reviewed_by``
    made of that.
    """

    id: int
    plan: str
    plan_name: str
    plan_version: int
    kind: str
    source: str
    target: str
    started_by: str
    started_at: datetime
    ended_at: datetime | None
    outcome: str
    ready_s: float | None
    rto_objective_s: int
    notes: str
    sealed: bool
    rpo_s: float | None
    people_s: float
    failures: int
    additions: int
    legal_hold: str
    removed: bool
    emergency: str
    review: str
    reviewed_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Review:
    """What somebody makes of an emergency start."""

    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RunPage:
    """Some runs, newest first; ``next`` is the cursor of those before them, None where there are none."""

    runs: tuple[RunLine, ...]
    next: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class SavedRunView:
    """A filter of the list of runs that somebody named; ``query`` is that of its address."""

    name: str
    query: str


@dataclass(frozen=True, slots=True, kw_only=True)
class EventView:
    """One event in words."""

    seq: int
    at: datetime
    run_s: float
    kind: str
    by: str
    step: str
    sentence: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupUsed:
    """A group in a run, the point that was chosen for it, and the RPO that this amounts to.

    ``at`` is the moment that its copies are of, which is later where the run copied once more itself.
    ``stage`` is where it is in its lifecycle now; ``writable`` the site where it can be written to, empty
    while that is between the two; ``fenced`` how many of its source copies are confirmed off and fenced.
    ``done_bytes`` of ``whole_bytes`` are copied in a re-protect, at ``rate_bps`` bytes a second on the link;
    a practice site makes that ``pace`` times as fast.
    """

    group: str
    point: RecoveryPoint | None
    rpo_s: float | None
    at: datetime | None = None
    stage: str = ""
    writable: str = ""
    members: int = 0
    fenced: int = 0
    done_bytes: int = 0
    whole_bytes: int = 0
    rate_bps: float = 0.0
    pace: float = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RunStatus:
    """Everything about a run but its steps. Seconds are run seconds unless the name says otherwise.

    ``under_way`` says by step how far it is, where its site says so.
    ``emergency``: why it was started without the approvals that it needs; ``review`` is what
    ``reviewed_by`` made of that.
    """

    id: int
    plan: str
    plan_name: str
    plan_version: int
    kind: str
    mark: str
    source: str
    source_name: str
    target: str
    target_name: str
    started_by: str
    started_at: datetime
    ended_at: datetime | None
    outcome: str
    seq: int
    at: datetime
    run_s: float
    pace: float
    machine_busy: bool
    ready_s: float | None
    added_s: float | None
    expected_ready_s: float
    rto_objective_s: int
    rpo_objective_s: int
    people_s: float
    copies: int
    copies_ready: int
    phase: str
    lead: str
    under: str
    notices: tuple[str, ...]
    held_because: str | None
    put_aside: str
    emergency: str
    review: str
    reviewed_by: str
    aborted_because: str | None
    lost_sites: dict[str, str]
    verdict: str
    notes: str
    cleanup_at: datetime | None
    remains: tuple[str, ...] | None
    waves: tuple[str, ...]
    groups: tuple[GroupUsed, ...]
    needs: tuple[Need, ...]
    decision: str
    outages: tuple[Outage, ...]
    probes: tuple[Probes, ...]
    found_running: tuple[str, ...]
    under_way: dict[str, str]
    abort_does: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RunDetail:
    """A run with its score."""

    status: RunStatus
    steps: tuple[ScoreStep, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class StepAsked:
    """What a site is asked for one step, and what it said each time.

    ``args`` are JSON as they go over the line; secrets of a script are only named in them.
    """

    step: str
    verb: str
    subject: str
    site: str
    args: dict[str, Any]
    attempts: tuple[Attempt, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class StreamMessage:
    """What an event stream sends: new events, how the run stands, and the steps that changed."""

    status: RunStatus
    events: tuple[EventView, ...]
    steps: tuple[ScoreStep, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class RunLandings:
    """Planned and actual, adapter by adapter; ``said`` is whether the site said what they had."""

    said: bool
    outcomes: tuple[Outcome, ...]


About = Literal["plan", "group", "workload"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrapView:
    """A known trap: what is about ``name`` (of a workload, or the code of a group or plan), from which run.

    It is open until it was solved, by whom and in which later run.
    """

    id: int
    about: str
    name: str
    text: str
    by: str
    at: datetime
    run: int | None
    solved_by: str
    solved_at: datetime | None
    solved_run: int | None


@dataclass(frozen=True, slots=True, kw_only=True)
class TrapSave:
    """A trap to be written down; ``run`` is the one in which it was found."""

    about: About
    name: str
    text: str
    run: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class TrapSolved:
    """The later run in which a trap was found to be none any more, if it was one."""

    run: int | None = None
