"""From a run's state to what the API says of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from maestoso.core.errors import NotFound
from maestoso.core.landing.actual import outcomes
from maestoso.core.model.protection import CopyState
from maestoso.core.planning.isolated_test import LEAK_CHECK, READ_ADAPTERS
from maestoso.core.runs.attempts import attempts_in
from maestoso.core.runs.events import Event
from maestoso.core.runs.needs import needs
from maestoso.core.runs.operations import operation_for
from maestoso.core.runs.progress import came_from, expected, expected_ready_s, measures
from maestoso.core.runs.standing import Backlog, Kept, abort_does, phase, standing, writable
from maestoso.core.runs.state import RunState
from maestoso.core.runs.steps import RESOLVED
from maestoso.core.runs.watching import outages, probes
from maestoso.core.runs.whereabouts import fenced
from maestoso.core.runs.words import sentence
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.models import Site
from maestoso.server.protection.models import GroupRow
from maestoso.server.runs.models import KeptFence, Run
from maestoso.server.runs.shapes import (
    EventView,
    GroupUsed,
    RunLandings,
    RunLine,
    RunStatus,
    StepAsked,
    TrapView,
)
from maestoso.server.runs.traps import traps_of
from maestoso.server.runs.under_way import under_way


def line(run: Run) -> RunLine:
    """One line of the list."""
    seal = getattr(run, "seal", None)
    return RunLine(
        id=run.pk,
        plan=run.plan_code,
        plan_name=run.plan_name,
        plan_version=run.plan_version,
        kind=run.kind,
        source=run.source,
        target=run.target,
        started_by=run.started_by,
        started_at=run.started_at,
        ended_at=run.ended_at,
        outcome=run.outcome,
        ready_s=run.ready_s,
        rto_objective_s=run.rto_objective_s,
        notes=run.notes,
        sealed=seal is not None,
        rpo_s=seal.rpo_s if seal else None,
        people_s=seal.people_s if seal else 0.0,
        failures=seal.failures if seal else 0,
        additions=len(run.additions.all()),
        legal_hold=run.legal_hold,
        removed=run.removed_at is not None,
        emergency=run.emergency,
        review=run.review,
        reviewed_by=run.reviewed_by,
    )


def in_words(state: RunState, events: list[Event]) -> tuple[EventView, ...]:
    """Events as sentences."""
    return tuple(
        EventView(
            seq=event.seq,
            at=event.at,
            run_s=event.run_s,
            kind=event.kind,
            by=event.by,
            step=str(event.data.get("step", "")),
            sentence=sentence(event, state.graph),
        )
        for event in events
    )


TOLD = ("put_aside", "emergency", "review", "reviewed_by", "outcome", "source", "target")
"""What is told of a run beside its log."""


def copying(run: Run) -> dict[str, CopyState]:
    """How far a re-protect is, as the site that is copied to says.

    It is asked before the state of the run is looked at: nobody who wants that waits for a site.
    """
    if run.kind != "re-protect" or run.outcome:
        return {}
    site = Site.objects.filter(code=run.target).first()
    return pulse(site).copying if site is not None else {}


def status(
    pk: int, state: RunState, names: dict[str, str], now: datetime, copied: Mapping[str, CopyState]
) -> RunStatus:
    """How a run stands at ``now``. ``names`` are those of sites by code, ``copied`` is :func:`copying`."""
    plan, measured = state.inputs.plan, measures(state)
    moment = state.at if state.finished else max(now, state.at)
    booted = [member for _, member in plan.members() if member.power_on]
    leak = state.steps.get(LEAK_CHECK)
    kept = list(KeptFence.objects.filter(run_id=pk).select_related("request"))
    groups = _groups(state, frozenset(one.workload for one in kept if one.delivered), copied)
    row = Run.objects.only(*TOLD).get(pk=pk)
    told = standing(
        state, names, [Kept(workload=one.workload, delivered=one.delivered) for one in kept],
        _backlog(state, groups),
    )  # fmt: skip
    return RunStatus(
        id=pk,
        plan=plan.code,
        plan_name=plan.name,
        plan_version=state.inputs.plan_version,
        kind=state.inputs.kind,
        mark=state.inputs.mark,
        source=plan.source,
        source_name=names.get(plan.source, plan.source),
        target=plan.target,
        target_name=names.get(plan.target, plan.target),
        started_by=state.started_by,
        started_at=state.started_at,
        ended_at=state.at if state.finished else None,
        outcome=state.outcome or "",
        seq=state.seq,
        at=moment,
        run_s=round(state.run_s if state.finished else state.run_seconds(moment), 2),
        pace=state.inputs.pace,
        machine_busy=state.machine_busy and not state.finished,
        ready_s=measured.rto_s,
        added_s=measured.added_s,
        expected_ready_s=round(expected_ready_s(state, expected(state, moment)), 1),
        rto_objective_s=plan.rto_s,
        rpo_objective_s=plan.rpo_s,
        people_s=round(state.people_s, 1),
        copies=len(booted),
        copies_ready=sum(1 for member in booted if _ready(state, member.workload)),
        phase=phase(state),
        lead=told.lead,
        under=told.under,
        notices=told.notices,
        held_because=state.held_because,
        put_aside=row.put_aside,
        emergency=row.emergency,
        review=row.review,
        reviewed_by=row.reviewed_by,
        aborted_because=state.aborted_because,
        lost_sites={} if state.finished else dict(state.lost_sites),
        verdict=state.verdict or "",
        notes=state.notes,
        cleanup_at=state.inputs.cleanup_at,
        remains=tuple(leak.result.get("remains", ())) if leak and leak.status == "done" else None,
        waves=tuple(wave.name for wave in plan.waves),
        groups=groups,
        needs=() if state.finished else needs(state),
        decision=state.decision or "",
        outages=outages(state),
        probes=probes(state),
        found_running=tuple(one.workload for one in kept if one.found_running and not one.seen_by),
        under_way=under_way(row, {site.code: site for site in Site.objects.filter(code__in=names)}),
        abort_does=abort_does(state, names),
    )


def run_landings(state: RunState) -> RunLandings:
    """Where everything was planned to come down, and what the site said every adapter had."""
    read = state.steps.get(READ_ADAPTERS if state.inputs.kind == "test" else "read-adapters:run")
    said = read.result if read is not None else {}
    found = outcomes(state.inputs.landings, state.inputs.all_opened(), said)
    return RunLandings(said=bool(said), outcomes=found)


def traps(state: RunState) -> tuple[TrapView, ...]:
    """Known traps of what a run is about: open ones, and those that were solved since it began."""
    inputs = state.inputs
    plans = (inputs.plan.code, *(part.plan for part in inputs.plan.parts))
    groups = (group.code for group in inputs.groups)
    return traps_of(plans, groups, inputs.plan.workloads(), since=state.started_at)


def asked_of_site(run: str, state: RunState, events: list[Event], step_id: str) -> StepAsked:
    """What a site is asked for a step, and what it said. Raises NotFound for a step that the run has not."""
    if step_id not in state.graph:
        raise NotFound(f"This run has no step {step_id[:80]!r}.", "Name a step of this run.", field="step")
    step = state.graph[step_id]
    attempts = attempts_in(events).get(step_id, ())
    args = operation_for(state, run, step_id).args if step.site and attempts else step.args
    return StepAsked(
        step=step_id, verb=step.verb, subject=step.subject, site=step.site or "", args=dict(args),
        attempts=attempts,
    )  # fmt: skip


def _ready(state: RunState, workload: str) -> bool:
    """All bring-up steps of the workload came to their end, and its power came on."""
    own = [s for s in state.graph.steps if s.workload == workload and s.phase == "bring-up"]
    power = state.steps.get(f"power-on:{workload}")
    return (
        power is not None
        and power.status == "done"
        and all(state.steps[step.id].status in RESOLVED for step in own)
    )


def _groups(
    state: RunState, since: frozenset[str], copied_to: Mapping[str, CopyState]
) -> tuple[GroupUsed, ...]:
    """``since``: workloads whose fences were kept, and delivered since."""
    measured = measures(state)
    codes = [group.code for group in state.inputs.groups]
    stages = dict(GroupRow.objects.filter(code__in=codes).values_list("code", "stage"))
    off = fenced(state) | since
    found = []
    for group in state.inputs.groups:
        copied = copied_to.get(group.code)
        found.append(
            GroupUsed(
                group=group.code,
                point=state.points.get(group.code, group.point),
                rpo_s=measured.rpo_s.get(group.code),
                stage=stages.get(group.code, ""),
                at=came_from(state, group),
                writable=writable(state, group.code, since),
                members=len(group.members),
                fenced=len(off.intersection(group.members)),
                done_bytes=copied.seeded_bytes if copied else 0,
                whole_bytes=copied.seed_bytes if copied else 0,
                rate_bps=copied.rate_bps if copied else 0.0,
                pace=copied.pace if copied else 1.0,
            )
        )
    return tuple(found)


def _backlog(state: RunState, groups: Sequence[GroupUsed]) -> Backlog | None:
    """What a re-protect has to copy yet, once its site says how much that is."""
    if state.inputs.kind != "re-protect":
        return None
    left = sum(max(group.whole_bytes - group.done_bytes, 0) for group in groups)
    return Backlog(left_bytes=left, rate_bps=sum(group.rate_bps * group.pace for group in groups))
