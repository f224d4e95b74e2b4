"""What a run measured so far, and what to expect of the rest."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from maestoso.core.planning.compiled import JUDGED
from maestoso.core.planning.graph import TO_READY
from maestoso.core.planning.inputs import GroupCopy
from maestoso.core.runs.state import RunState
from maestoso.core.runs.steps import RESOLVED, StepState
from maestoso.core.scheduling.list_schedule import Pinned, Schedule, list_schedule, makespan


@dataclass(frozen=True, slots=True, kw_only=True)
class Measures:
    """Seconds. ``rto_s`` is trigger to last required check; ``rpo_s`` per group is trigger minus point.

    The trigger is the start, or the declared moment of the outage before it. ``added_s`` is what of the
    recovery time Maestoso itself took: the rest is work of the sites, delays of the plan, and people.
    """

    rto_s: float | None
    added_s: float | None
    rpo_s: dict[str, float]
    people_s: float


def measures(state: RunState) -> Measures:
    """What the run achieved, as far as it is known now."""
    before_s = declared_before_s(state)
    triggered = state.started_at - timedelta(seconds=before_s)
    return Measures(
        rto_s=None if state.ready_s is None else state.ready_s + before_s,
        added_s=_added_s(state),
        rpo_s={
            group.code: max((triggered - oldest).total_seconds(), 0.0) if oldest is not None else 0.0
            for group in state.inputs.groups
            if state.points.get(group.code, group.point) is not None or _copied_whole(state, group.code)
            for oldest in [_oldest(state, group)]
        },
        people_s=state.people_s,
    )


def _added_s(state: RunState) -> float | None:
    asked = next((name for name in JUDGED if name in state.graph), None)
    if state.ready_s is None or asked is None:
        return None
    return max(state.ready_s - state.time.pure_s(state.graph.index[asked]), 0.0)


def declared_before_s(state: RunState) -> float:
    """How long before the start the outage was declared to have begun."""
    declared = state.inputs.live.declared_at if state.inputs.live else None
    return max((state.started_at - declared).total_seconds(), 0.0) if declared else 0.0


def _oldest(state: RunState, group: GroupCopy) -> datetime | None:
    """The oldest moment that a member of a group came up from; None where nothing was lost."""
    if group.code in state.points:
        return state.points[group.code].at
    moments = [point.at for point in group.apart.values()]
    if not _copied_whole(state, group.code) and group.point is not None:
        moments.append(group.point.at)
    return min(moments, default=None)


def came_from(state: RunState, group: GroupCopy) -> datetime | None:
    """The moment that a group's copies are of: chosen later, copied last, or chosen at the start.

    None where that is not known: nothing was chosen, or a site does not say of which moment its copy is.
    """
    if group.code in state.points:
        return state.points[group.code].at
    last = _last_copy(state, group.code)
    if last is not None:
        at = last.result.get("at")
        return datetime.fromisoformat(at) if isinstance(at, str) else None
    return group.point.at if group.point is not None else None


def _last_copy(state: RunState, group: str) -> StepState | None:
    """The copy that the run itself made and came up from, where it did."""
    names = [f"final-sync:{group}"] if state.inputs.kind != "test" else [f"sync:{group}"]
    found = (state.steps.get(name) for name in names)
    return next((step for step in found if step is not None and step.status == "done"), None)


def _copied_whole(state: RunState, group: str) -> bool:
    """Whether the run came up from what it had copied itself, after it was asked to."""
    return group not in state.points and _last_copy(state, group) is not None


def overhead(state: RunState) -> float | None:
    """Machine time of a finished run over the slot-limited schedule of the durations its steps really had.

    1.0 means that no time went anywhere else: what is above is the engine's own. None before the end, and
    for a run in which steps failed, whose earlier tries the schedule does not know.
    """
    if not state.finished or any(step.attempt > 1 for step in state.steps.values()):
        return None
    took = []
    for step in state.graph.steps:
        done = state.steps[step.id]
        machine = step.site is not None and done.asked_s is not None and done.settled_s is not None
        took.append((done.settled_s or 0.0) - (done.asked_s or 0.0) if machine else 0.0)
    least = makespan(state.graph, took, state.inputs.limits)
    return (state.run_s - state.people_s) / least if least > 0 else None


def planned(state: RunState) -> Schedule:
    """The schedule that was expected at the start: the ghost behind the live score."""
    return list_schedule(state.graph, state.medians_s, state.inputs.limits)


def expected(state: RunState, now: datetime) -> Schedule:
    """The schedule from here on: what happened stays, the rest is laid behind ``now``."""
    now_s = state.run_seconds(now)
    pinned = {}
    for position, step in enumerate(state.graph.steps):
        happened = state.steps[step.id]
        begun_s = happened.asked_s if happened.asked_s is not None else happened.settled_s
        if happened.status in RESOLVED:
            at_s = happened.settled_s or 0.0
            pinned[position] = Pinned(start_s=at_s if begun_s is None else begun_s, finish_s=at_s)
        elif happened.status in ("asked", "person") and begun_s is not None:
            pinned[position] = Pinned(start_s=begun_s)
    return list_schedule(state.graph, state.medians_s, state.inputs.limits, pinned=pinned, now_s=now_s)


def expected_ready_s(state: RunState, schedule: Schedule) -> float:
    """When the last required check should be through, in run seconds."""
    counted = [
        schedule.finish_s[position]
        for position, step in enumerate(state.graph.steps)
        if step.phase in TO_READY
    ]
    return state.ready_s if state.ready_s is not None else max(counted, default=0.0)
