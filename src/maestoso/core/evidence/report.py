"""The report of a run, computed from its log and nothing else."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.evidence.facts import Facts, PhaseTime, facts_of, phases
from maestoso.core.landing.actual import Outcome, outcomes
from maestoso.core.model.finding import Finding
from maestoso.core.planning.isolated_test import LEAK_CHECK, READ_ADAPTERS
from maestoso.core.runs.attempts import Attempt, attempts_in
from maestoso.core.runs.events import ENGINE, Event
from maestoso.core.runs.operations import operation_for
from maestoso.core.runs.progress import came_from, measures
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.watching import Outage, Probes, outages, probes
from maestoso.core.runs.words import sentence
from maestoso.core.wording import KINDS, lasting


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportGroup:
    """A group, the point it came up from, and what that lost. ``met`` is None where nothing was lost or won:
    the group has no point in this run. ``apart`` are members that came from other points, and from when."""

    group: str
    workloads: tuple[str, ...]
    point_at: datetime | None
    point_kind: str
    rpo_s: float | None
    met: bool | None
    apart: dict[str, datetime]


@dataclass(frozen=True, slots=True, kw_only=True)
class Said:
    """Something that a person did in the run, or that was done in a person's stead."""

    seq: int
    at: datetime
    run_s: float
    by: str
    sentence: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportStep:
    """One step. ``asked`` is what its site was asked for, ``attempts`` what it said each time."""

    number: int
    step: str
    title: str
    workload: str
    wave: str
    phase: str
    site: str
    verb: str
    status: str
    start_s: float | None
    finish_s: float | None
    reason: str
    asked: dict[str, Any]
    attempts: tuple[Attempt, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Approval:
    """A second signature under the start."""

    by: str
    at: datetime
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """Everything that a stranger is told of a run. Times with ``_s`` are run seconds.

    ``findings`` are those of the preflight (None: this run began under a release that did not keep them), and
    ``reason`` is why it was started in spite of them; ``approvals`` who signed the start besides, and
    ``emergency`` why nobody did although somebody should have;
    ``remains`` is what the leak check found (None: none was made).
    """

    run: int
    plan: str
    plan_name: str
    plan_version: int
    owner: str
    kind: str
    source: str
    source_name: str
    target: str
    target_name: str
    started_by: str
    started_at: datetime
    ended_at: datetime | None
    outcome: str
    sentence: str
    rto_objective_s: int
    rpo_objective_s: int
    rto_met: bool | None
    pace: float
    added_s: float | None
    facts: Facts
    groups: tuple[ReportGroup, ...]
    phases: tuple[PhaseTime, ...]
    outages: tuple[Outage, ...]
    probes: tuple[Probes, ...]
    people: tuple[Said, ...]
    findings: tuple[Finding, ...] | None
    reason: str
    approvals: tuple[Approval, ...]
    emergency: str
    steps: tuple[ReportStep, ...]
    landings: tuple[Outcome, ...]
    landings_said: bool
    remains: tuple[str, ...] | None
    verdict: str
    notes: str
    events: int


def report(run: str, number: int, log: Sequence[Event]) -> Report:
    """The report of the run called ``run`` at the sites, with that number. Raises LogCorrupt."""
    state = fold(log)
    plan, found = state.inputs.plan, facts_of(state, log)
    names: Mapping[str, str] = log[0].data.get("sites") or {}
    began = log[0].data.get("findings")
    leak = state.steps.get(LEAK_CHECK)
    read = state.steps.get(READ_ADAPTERS if state.inputs.kind == "test" else "read-adapters:run")
    said = read.result if read is not None else {}
    return Report(
        run=number,
        plan=plan.code,
        plan_name=plan.name,
        plan_version=state.inputs.plan_version,
        owner=plan.owner,
        kind=state.inputs.kind,
        source=plan.source,
        source_name=names.get(plan.source, plan.source),
        target=plan.target,
        target_name=names.get(plan.target, plan.target),
        started_by=state.started_by,
        started_at=state.started_at,
        ended_at=state.at if state.finished else None,
        outcome=state.outcome or "",
        sentence=in_a_sentence(state, found, names),
        rto_objective_s=plan.rto_s,
        rpo_objective_s=plan.rpo_s,
        rto_met=None if found.rto_s is None else found.rto_s <= plan.rto_s,
        pace=state.inputs.pace,
        added_s=measures(state).added_s,
        facts=found,
        groups=_groups(state, found),
        phases=phases(state),
        outages=outages(state),
        probes=probes(state),
        people=_people(state, log),
        findings=None if began is None else tuple(from_data(Finding, one) for one in began),
        reason=str(log[0].data.get("reason") or ""),
        approvals=tuple(from_data(Approval, one) for one in log[0].data.get("approvals") or ()),
        emergency=str(log[0].data.get("emergency") or ""),
        steps=_steps(run, state, attempts_in(log)),
        landings=outcomes(state.inputs.landings, state.inputs.all_opened(), said),
        landings_said=bool(said),
        remains=tuple(leak.result.get("remains", ())) if leak and leak.status == "done" else None,
        verdict=state.verdict or state.decision or "",
        notes=state.notes,
        events=len(log),
    )


_ENDED = {
    "passed": "and passed",
    "failed": "and failed",
    "inconclusive": "and needs a look",
    "aborted": "and was aborted",
    "committed": "and was committed",
    "rolled back": "and was rolled back",
    "protected": "and is protected in the other direction",
}
_DONE = {
    "test": "was tested at",
    "planned": "was failed over, as planned, to",
    "disaster": "was failed over after a disaster to",
    "re-protect": "was re-protected to",
}


def in_a_sentence(state: RunState, found: Facts, names: Mapping[str, str]) -> str:
    """What one reads who reads one sentence."""
    plan = state.inputs.plan
    at = names.get(plan.target, plan.target)
    ended = _ENDED.get(state.outcome or "", "and is still under way")
    text = f"{plan.name} {_DONE[state.inputs.kind]} {at} {ended}"
    if state.inputs.kind == "re-protect":
        return f"{text}."
    if found.rto_s is None:
        text += ": it never came up as a whole"
    else:
        text += f": everything was up after {lasting(found.rto_s)} (objective {lasting(plan.rto_s)})"
    if found.worst_rpo_s is not None:
        text += f", from points at most {lasting(found.worst_rpo_s)} old (objective {lasting(plan.rpo_s)})"
    if found.failures:
        text += f"; {found.failures} {'try' if found.failures == 1 else 'tries'} failed on the way"
    return f"{text}."


def _groups(state: RunState, found: Facts) -> tuple[ReportGroup, ...]:
    listed = []
    for group in state.inputs.groups:
        point, at = state.points.get(group.code, group.point), came_from(state, group)
        rpo = found.rpo_s.get(group.code)
        listed.append(
            ReportGroup(
                group=group.code,
                workloads=group.members,
                point_at=at,
                point_kind=point.kind if point and point.at == at else "",
                rpo_s=rpo,
                met=None if rpo is None else rpo <= state.inputs.plan.rpo_s,
                apart={}
                if group.code in state.points
                else {name: one.at for name, one in group.apart.items()},
            )
        )
    return tuple(listed)


_OF_PEOPLE = frozenset(
    {
        "run.started", "step.retried", "hold.agreed", "hold.answered", "hold.refused", "verdict.given",
        "decision.given",
        "point.changed", "run.held", "run.resumed", "run.aborted",
    }
)  # fmt: skip


def _people(state: RunState, log: Sequence[Event]) -> tuple[Said, ...]:
    return tuple(
        Said(
            seq=event.seq, at=event.at, run_s=event.run_s, by=event.by, sentence=sentence(event, state.graph)
        )
        for event in log
        if event.kind in _OF_PEOPLE or (event.kind == "step.skipped" and event.by != ENGINE)
    )


def _steps(run: str, state: RunState, attempts: Mapping[str, tuple[Attempt, ...]]) -> tuple[ReportStep, ...]:
    """In the order in which they began; those that never did, last."""
    waves = [wave.name for wave in state.inputs.plan.waves]
    begun = sorted(
        state.graph.steps,
        key=lambda step: (_begin(state, step.id) is None, _begin(state, step.id) or 0.0),
    )
    return tuple(
        ReportStep(
            number=number,
            step=step.id,
            title=step.title,
            workload=step.workload or "",
            wave="" if step.wave is None else waves[step.wave],
            phase=step.phase,
            site=step.site or "",
            verb=step.verb,
            status=state.steps[step.id].status,
            start_s=_begin(state, step.id),
            finish_s=state.steps[step.id].settled_s,
            reason=state.steps[step.id].reason,
            asked=dict(operation_for(state, run, step.id).args) if step.id in attempts else {},
            attempts=attempts.get(step.id, ()),
        )
        for number, step in enumerate(begun, 1)
    )


def _begin(state: RunState, step: str) -> float | None:
    was = state.steps[step]
    return was.asked_s if was.asked_s is not None else was.settled_s


COLUMNS = (
    "number", "step", "title", "workload", "wave", "phase", "site", "verb", "status", "attempts", "start_s",
    "finish_s", "took_s", "reason", "asked", "said",
)  # fmt: skip


def as_csv(made: Report) -> str:
    """The steps as a table (RFC 4180), in UTF-8 with a mark so that spreadsheets read it as such.

    What begins like a formula is set behind an apostrophe.
    """
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(COLUMNS)
    for step in made.steps:
        timed = step.start_s is not None and step.finish_s is not None
        rows.writerow(
            _harmless(value)
            for value in (
                step.number, step.step, step.title, step.workload, step.wave, step.phase, step.site,
                step.verb, step.status, len(step.attempts), step.start_s, step.finish_s,
                round((step.finish_s or 0.0) - (step.start_s or 0.0), 3) if timed else None,
                step.reason, compact(step.asked), compact(step.attempts[-1].result) if step.attempts else "",
            )
        )  # fmt: skip
    return "\ufeff" + out.getvalue()


def compact(value: Mapping[str, Any]) -> str:
    """A JSON object on one line; empty for an empty one."""
    return json.dumps(value, sort_keys=True, separators=(", ", ": "), ensure_ascii=False) if value else ""


def _harmless(value: Any) -> Any:
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t") else value


def heading(made: Report) -> str:
    """What a report is called."""
    return f"{KINDS[made.kind].capitalize()} of {made.plan_name}, run {made.run}"
