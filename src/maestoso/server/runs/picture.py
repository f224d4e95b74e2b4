"""From a run's state to what the API says of it."""

from __future__ import annotations

from datetime import datetime

from maestoso.core.landing.actual import outcomes
from maestoso.core.planning.isolated_test import LEAK_CHECK, READ_ADAPTERS
from maestoso.core.runs.events import Event
from maestoso.core.runs.needs import needs
from maestoso.core.runs.progress import expected, expected_ready_s, measures
from maestoso.core.runs.state import RunState
from maestoso.core.runs.steps import RESOLVED
from maestoso.core.runs.words import sentence
from maestoso.server.runs.models import Run
from maestoso.server.runs.shapes import EventView, GroupUsed, RunLandings, RunLine, RunStatus


def line(run: Run) -> RunLine:
    """One line of the list."""
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


def status(pk: int, state: RunState, names: dict[str, str], now: datetime) -> RunStatus:
    """How a run stands at ``now``; ``names`` gives the names of sites by code."""
    plan, measured = state.inputs.plan, measures(state)
    moment = state.at if state.finished else max(now, state.at)
    booted = [member for _, member in plan.members() if member.power_on]
    leak = state.steps[LEAK_CHECK]
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
        expected_ready_s=round(expected_ready_s(state, expected(state, moment)), 1),
        rto_objective_s=plan.rto_s,
        rpo_objective_s=plan.rpo_s,
        people_s=round(state.people_s, 1),
        copies=len(booted),
        copies_ready=sum(1 for member in booted if _ready(state, member.workload)),
        phase=_phase(state),
        held_because=state.held_because,
        aborted_because=state.aborted_because,
        lost_sites=dict(state.lost_sites),
        verdict=state.verdict or "",
        notes=state.notes,
        cleanup_at=state.inputs.cleanup_at,
        remains=tuple(leak.result.get("remains", ())) if leak.status == "done" else None,
        waves=tuple(wave.name for wave in plan.waves),
        groups=tuple(
            GroupUsed(group=g.code, point=g.point, rpo_s=measured.rpo_s.get(g.code))
            for g in state.inputs.groups
        ),
        needs=() if state.finished else needs(state),
    )


def run_landings(state: RunState) -> RunLandings:
    """Where everything was planned to come down, and what the site said every adapter had."""
    read = state.steps.get(READ_ADAPTERS)
    said = read.result.get("adapters", {}) if read is not None else {}
    return RunLandings(said=bool(said), outcomes=outcomes(state.inputs.landings, said))


def _ready(state: RunState, workload: str) -> bool:
    """All bring-up steps of the workload came to their end, and its power came on."""
    own = [s for s in state.graph.steps if s.workload == workload and s.phase == "bring-up"]
    return state.steps[f"power-on:{workload}"].status == "done" and all(
        state.steps[step.id].status in RESOLVED for step in own
    )


def _phase(state: RunState) -> str:
    if state.finished:
        return "finished"
    if state.aborted_because is not None or state.verdict is not None:
        return "cleanup"
    if state.ready_s is not None:
        return "judge"
    boots = any(state.steps[s.id].attempt for s in state.graph.steps if s.verb == "power-on")
    return "bring-up" if boots else "prepare"
