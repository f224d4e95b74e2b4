"""``fold``: the state of a run, computed from its log and nothing else."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime

from maestoso.core.codec import from_data
from maestoso.core.errors import LogCorrupt
from maestoso.core.model.earlier import plan_today
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.planning.compiled import JUDGED, compile_run
from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.graph import TAKES_BACK, Slot, Step, StepGraph
from maestoso.core.planning.inputs import CommitOrRollBack, Estimate, RunInputs
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.run_time import RunTime
from maestoso.core.runs.steps import RESOLVED, Status, StepState, Try, next_status
from maestoso.core.scheduling.list_schedule import earliest, tails


def inputs_in(first: Event) -> RunInputs:
    """What a run was compiled from, as its first event keeps it."""
    given = first.data["inputs"]
    return from_data(RunInputs, {**given, "plan": plan_today(given["plan"])})


@dataclass(frozen=True, slots=True, kw_only=True)
class Spell:
    """A stretch of run time in which a service did not answer; ``to_s`` is None while it does not.

    ``first``: it was away when probes looked first. ``assumed``: its site said nothing, so nobody saw it.
    """

    service: tuple[str, str]
    from_s: float
    to_s: float | None = None
    first: bool = False
    assumed: bool = False


class RunState:
    """The state after the events applied so far.

    ``apply`` is the only writer and works in place: copying thousands of steps for each event would make a
    long log quadratic. Two states made from the same events are equal in every field.
    """

    def __init__(self, first: Event) -> None:
        if first.kind != "run.started" or first.seq != 1:
            raise LogCorrupt("A run log must begin with run.started at number 1.")
        self.inputs = inputs_in(first)
        self.graph: StepGraph = compile_run(self.inputs)
        nothing = Estimate(median_s=0.0)
        self.medians_s = [self.inputs.estimates.get(s.id, nothing).median_s for s in self.graph.steps]
        self.tail_s = tails(self.graph, self.medians_s)
        self.started_at = first.at
        self.started_by = first.by
        self.seq = 1
        self.at = first.at
        self.run_s = 0.0  # of the latest in run time; an event may be of a moment before that
        self.stamp_s = 0.0  # run time of the event that is being taken in
        self.people_s = 0.0
        self.steps: dict[str, StepState] = {step.id: StepState() for step in self.graph.steps}
        self.time = RunTime(self.graph, self.inputs.limits, self.inputs.pace)
        self.settled_s = [0.0] * len(self.graph)
        self.unresolved = [len(preds) for preds in self.graph.preds]
        self.left = len(self.steps)
        self.open: set[str] = set()
        # Open steps by slot class, longest remaining path first: what decide looks at, and nothing else.
        self.queues: dict[Slot | None, list[tuple[float, str]]] = {
            None: [], "power": [], "copies": [], "clones": [],
        }  # fmt: skip
        self.pointless: dict[str, str] = {}
        self.in_flight: set[str] = set()
        self.persons: set[str] = set()
        self.failed: set[str] = set()
        self.slots_taken: dict[Slot, int] = {"power": 0, "copies": 0, "clones": 0}
        self.held_because: str | None = None
        self.held_at: datetime | None = None
        self.stopped_for: set[str] = set()
        self.aborted_because: str | None = None
        self.verdict: str | None = None
        self.decision: CommitOrRollBack | None = None
        self.points: dict[str, RecoveryPoint] = {}  # chosen after the start, by group
        self.limited: set[str] = set()  # in flight, and not waited for without end
        self.notes = ""
        self.lost_sites: dict[str, str] = {}
        self.lost_at: dict[str, datetime] = {}
        self.back_at: dict[str, datetime] = {}
        # Every spell that a service was away, in the order in which they began.
        self.spells: list[Spell] = []
        self.away: dict[tuple[str, str], int] = {}  # where in the list those are that are not back
        self.looked = False
        self.probes_end_s: float | None = None  # then its copies begin to be taken away
        self.ready_s: float | None = None
        self.outcome: str | None = None
        for position, count in enumerate(self.unresolved):
            if count == 0:
                self._open(position)

    @property
    def finished(self) -> bool:
        """Whether the run has its outcome."""
        return self.outcome is not None

    @property
    def machine_busy(self) -> bool:
        """Whether anything but a person holds the run up: then run time goes at pace."""
        return self._working() or (self.held_because is None and bool(self.open))

    def _working(self) -> bool:
        """Whether a site is at work. Waiting for one that is silent, as long as is allowed, is no work."""
        if not self.limited or not self.lost_sites:
            return bool(self.in_flight)
        return any(
            name not in self.limited or self.graph[name].site not in self.lost_sites
            for name in self.in_flight
        )

    def run_seconds(self, now: datetime) -> float:
        """Run time at ``now``: wall time since the last event, times the pace while machines work.

        Between events that is an estimate; what a step took is what its site says (see RunTime).
        """
        wall = max((now - self.at).total_seconds(), 0.0)
        heard = any(self.graph[name].site not in self.lost_sites for name in self.in_flight)
        at_pace = heard or (self.held_because is None and bool(self.open))
        return self.run_s + wall * (self.inputs.pace if at_pace else 1.0)

    def _stamp(self, draft: Draft, moment: datetime) -> float:
        """The run time of an event that is written at ``moment``."""
        name, clock_s = draft.data.get("step", ""), self.run_seconds(moment)
        step = self.steps.get(name)
        if step is None or self.inputs.pace == 1:
            return clock_s
        position, waits = self.graph.index[name], step.status == "waiting"
        if waits and draft.kind in ("step.asked", "step.waits", "step.done", "step.skipped"):
            return self.time.begins(position, self.slots_taken.__getitem__, moment)
        took_s = draft.data.get("took_s")
        if took_s is None or step.asked_at is None or draft.kind not in ("step.done", "step.failed"):
            return clock_s
        before_s = draft.data.get("before_s", 0.0)
        return self.time.ends(position, step.asked_at, took_s, before_s, moment)

    def event(self, draft: Draft, now: datetime) -> Event:
        """``draft`` as the next event of this log."""
        moment = max(now, self.at)
        return Event(
            seq=self.seq + 1,
            at=moment,
            run_s=round(self._stamp(draft, moment), 6),
            kind=draft.kind,
            data=draft.data,
            by=draft.by,
        )

    def apply(self, event: Event) -> None:
        """Take one event in. Raises LogCorrupt where it cannot follow; the state is then of no use."""
        if event.seq != self.seq + 1:
            raise LogCorrupt(f"Event {event.seq} follows event {self.seq}: something is missing or doubled.")
        if self.finished:
            raise LogCorrupt(f"Event {event.seq} comes after the run had finished.")
        if not self.machine_busy:
            self.people_s += (event.at - self.at).total_seconds()
        self.seq, self.at, self.stamp_s = event.seq, event.at, event.run_s
        self.run_s = max(self.run_s, event.run_s)
        name = "_on_" + event.kind.replace(".", "_")
        getattr(self, name)(event)

    # --- one handler for each kind of event ---

    def _on_step_asked(self, event: Event) -> None:
        step, state = self._move(event)
        if event.data["attempt"] != state.attempt + 1:
            raise LogCorrupt(f"Attempt {event.data['attempt']} of {step} follows attempt {state.attempt}.")
        self.steps[step] = replace(
            state, attempt=state.attempt + 1, asked_s=event.run_s, asked_at=event.at, code="", reason=""
        )
        self._dequeue(step)
        self.time.begun(self.graph.index[step], self.slots_taken.__getitem__, event.run_s)
        self.in_flight.add(step)
        if self.graph[step].limit_s:
            self.limited.add(step)
        slot = self.graph[step].slot
        if slot:
            self.slots_taken[slot] += 1

    def _on_step_done(self, event: Event) -> None:
        step, state = self._move(event)
        self.steps[step] = replace(state, result=event.data.get("result") or {})
        if step in self.in_flight:
            self.time.settled(self.graph.index[step], _took_s(event), event.run_s)
        else:
            self.time.passed_over(self.graph.index[step])
        self._landed(step)
        self._resolve(step)

    def _on_step_failed(self, event: Event) -> None:
        step, state = self._move(event)
        self.steps[step] = replace(
            state, code=event.data["code"], reason=event.data["reason"], settled_s=event.run_s,
            failed_at=event.at,
        )  # fmt: skip
        self.time.settled(self.graph.index[step], _took_s(event), event.run_s)
        self._landed(step)
        self.failed.add(step)
        if self.aborted_because is not None and self.graph[step].phase not in TAKES_BACK:
            self._cancel(step)

    def _on_step_skipped(self, event: Event) -> None:
        step, state = self._move(event)
        self.steps[step] = replace(state, reason=event.data["reason"])
        if state.asked_s is None:
            self.time.passed_over(self.graph.index[step])
        else:
            self.time.settled(self.graph.index[step], None, event.run_s)
        self._resolve(step)

    def _on_step_retried(self, event: Event) -> None:
        step, state = self._move(event)
        self.failed.discard(step)
        self.stopped_for.discard(step)
        failed = Try(from_s=state.asked_s or 0.0, to_s=state.settled_s or 0.0)
        self.steps[step] = replace(
            state, eligible_s=event.run_s, settled_s=None, tries=(*state.tries, failed)
        )
        self.time.opened_again(self.graph.index[step], event.run_s, event.at)
        self._enqueue(step)

    def _on_step_waits(self, event: Event) -> None:
        step, state = self._move(event)
        self.steps[step] = replace(state, asked_s=event.run_s, asked_at=event.at)
        self._dequeue(step)
        self.time.begun(self.graph.index[step], self.slots_taken.__getitem__, event.run_s)
        self.persons.add(step)
        if step in JUDGED:
            self.ready_s = event.run_s

    def _on_hold_refused(self, event: Event) -> None:
        step, state = self._move(event)
        # Whoever agreed before looks again.
        self.steps[step] = replace(state, refused_by=event.by, reason=event.data["text"], agreed=())

    def _on_hold_agreed(self, event: Event) -> None:
        step, state = self._move(event)
        self.steps[step] = replace(state, agreed=(*state.agreed, event.by))

    def _on_hold_answered(self, event: Event) -> None:
        step, _ = self._move(event)
        self.time.settled(self.graph.index[step], None, event.run_s)
        self._resolve(step)

    def _on_verdict_given(self, event: Event) -> None:
        self.verdict = event.data["verdict"]
        self.probes_end_s = event.run_s
        self.notes = event.data.get("notes", "")
        self._move(replace(event, data={"step": VERDICT}))
        self.time.settled(self.graph.index[VERDICT], None, event.run_s)
        self._resolve(VERDICT)

    def _on_decision_given(self, event: Event) -> None:
        self.decision = event.data["decision"]
        self.notes = event.data.get("notes", "")
        self._move(replace(event, data={"step": DECISION}))
        untaken = "roll-back" if self.decision == "commit" else "commit"
        for step in self.graph.steps:
            if step.phase == untaken and self.steps[step.id].status == "waiting":
                self._cancel(step.id, event.kind)
        self.time.settled(self.graph.index[DECISION], None, event.run_s)
        self._resolve(DECISION)

    def _on_point_changed(self, event: Event) -> None:
        self.points[event.data["group"]] = from_data(RecoveryPoint, event.data["point"])
        self.ready_s = None
        self._reopen(steps_to_redo(self, event.data["group"]), event)

    def _on_run_held(self, event: Event) -> None:
        self.held_because, self.held_at = event.data["reason"], event.at
        if "step" in event.data:
            self.stopped_for.add(event.data["step"])

    def _on_run_resumed(self, event: Event) -> None:
        self.held_because = None

    def _on_run_aborted(self, event: Event) -> None:
        self.aborted_because = event.data["reason"]
        if self.inputs.kind == "test" and self.probes_end_s is None:
            self.probes_end_s = event.run_s
        self.held_because = None
        for step in self.graph.steps:
            if step.phase not in TAKES_BACK and self.steps[step.id].status in ("waiting", "person", "failed"):
                self._cancel(step.id)

    def _on_site_lost(self, event: Event) -> None:
        self.lost_sites[event.data["site"]] = event.data["reason"]
        self.lost_at[event.data["site"]] = event.at

    def _on_site_back(self, event: Event) -> None:
        self.lost_sites.pop(event.data["site"], None)
        self.back_at[event.data["site"]] = event.at

    def _on_site_deaf(self, event: Event) -> None:
        """Nothing changes: it is asked until it answers, or is overdue."""

    def _on_site_busy(self, event: Event) -> None:
        """Nothing changes: it is asked again when it wants to be."""

    def _on_site_forgot(self, event: Event) -> None:
        """Nothing changes: what is asked for again has the key that it had."""

    def _on_services_seen(self, event: Event) -> None:
        for workload, service in event.data["away"]:
            self.away[workload, service] = len(self.spells)
            spell = Spell(
                service=(workload, service), from_s=event.run_s, first=not self.looked,
                assumed=bool(event.data.get("assumed")),
            )  # fmt: skip
            self.spells.append(spell)
        for workload, service in event.data["back"]:
            at = self.away.pop((workload, service))
            self.spells[at] = replace(self.spells[at], to_s=event.run_s)
        self.looked = True

    def _on_run_finished(self, event: Event) -> None:
        self.outcome = event.data["outcome"]

    # --- shared by the handlers ---

    def _move(self, event: Event) -> tuple[str, StepState]:
        step = event.data["step"]
        if step not in self.graph:
            raise LogCorrupt(f"The log speaks of step {step}, which the plan of this run does not have.")
        state = self.steps[step]
        status = next_status(step, state.status, event.kind)
        self.steps[step] = state = replace(state, status=status)
        return step, state

    def _landed(self, step: str) -> None:
        """The step is no longer with its site."""
        if step in self.in_flight:
            self.in_flight.discard(step)
            self.limited.discard(step)
            slot = self.graph[step].slot
            if slot:
                self.slots_taken[slot] -= 1
                self.time.landed(self.graph.index[step], self.stamp_s, self.at)

    def _cancel(self, step: str, event: str = "run.aborted") -> None:
        state = self.steps[step]
        status = next_status(step, state.status, event)
        self.steps[step] = replace(state, status=status)
        self._resolve(step)

    def _resolve(self, step: str) -> None:
        self.steps[step] = replace(self.steps[step], settled_s=self.stamp_s)
        self.settled_s[self.graph.index[step]] = self.stamp_s
        self.left -= 1
        self._dequeue(step)
        self.persons.discard(step)
        self.failed.discard(step)
        for position in self.graph.succs[self.graph.index[step]]:
            self.unresolved[position] -= 1
            if self.unresolved[position] == 0 and self._status(position) == "waiting":
                self._open(position)

    def _reopen(self, names: Iterable[str], event: Event) -> None:
        """Steps that were resolved are to be done once more, in their order."""
        positions = sorted(self.graph.index[name] for name in names)
        for position in positions:
            name = self.graph.steps[position].id
            before = self.steps[name]
            self.steps[name] = replace(
                before, status=next_status(name, before.status, event.kind), eligible_s=None, asked_s=None,
                asked_at=None, settled_s=None, refused_by="", agreed=(),
            )  # fmt: skip
            self.persons.discard(name)
            self.stopped_for.discard(name)
            if before.status in RESOLVED:
                self.left += 1
                for behind in self.graph.succs[position]:
                    self.unresolved[behind] += 1
        for position in positions:
            if self.unresolved[position] == 0:
                self._open(position)

    def _status(self, position: int) -> Status:
        return self.steps[self.graph.steps[position].id].status

    def _open(self, position: int) -> None:
        step = self.graph.steps[position].id
        eligible = earliest(self.graph, position, self.settled_s)
        eligible = self.time.opened(position, eligible, self.stamp_s, self.at)
        self.steps[step] = replace(self.steps[step], eligible_s=eligible)
        self._enqueue(step)
        # All it waits for is resolved, so whether there is anything to do is known now and stays so.
        reason = self._pointless(self.graph.steps[position])
        if reason:
            self.pointless[step] = reason

    def _place(self, step: str) -> tuple[list[tuple[float, str]], tuple[float, str]]:
        position = self.graph.index[step]
        return self.queues[self.graph.steps[position].slot], (-self.tail_s[position], step)

    def _enqueue(self, step: str) -> None:
        self.open.add(step)
        queue, entry = self._place(step)
        insort(queue, entry)

    def _dequeue(self, step: str) -> None:
        if step in self.open:
            self.open.discard(step)
            self.pointless.pop(step, None)
            queue, entry = self._place(step)
            del queue[bisect_left(queue, entry)]

    def _pointless(self, step: Step) -> str:
        """Why an open step need not be done at all; empty when it must."""
        for needed in step.needs:
            if self.steps[needed].status in ("skipped", "cancelled"):
                return f"{self.graph[needed].title} did not happen, so there is nothing to do here."
        if step.undoes and all(self.steps[name].attempt == 0 for name in step.undoes):
            return "It was never made, so there is nothing to take away."
        if step.answers and all(self.steps[name].status == "done" for name in step.answers):
            return "All of it is confirmed, so there is nothing to acknowledge."
        return ""


def _took_s(event: Event) -> float | None:
    """Machine seconds of a step by its site's clock, with those before it was asked for; None if not said."""
    took_s: float | None = event.data.get("took_s")
    return None if took_s is None else took_s + float(event.data.get("before_s", 0.0))


def steps_to_redo(state: RunState, group: str) -> set[str]:
    """The steps that are done once more when a group comes up from another point.

    Promoting takes the group's machines down first; then they get power, are awaited and probed again, and
    the decision is asked for anew. What else waited for them came up already and stays.
    """
    members = next(copy.members for copy in state.inputs.groups if copy.code == group)
    found = {f"promote:{group}", "read-adapters:run", DECISION}
    for step in state.graph.steps:
        if step.phase == "bring-up" and step.workload in members and step.verb in _COMES_UP:
            found.add(step.id)
    return {name for name in found if state.steps[name].status in ("done", "skipped", "person")}


_COMES_UP = ("power-on", "await-heartbeat", "probe-service")


def fold(events: Iterable[Event]) -> RunState:
    """The state of a run from its whole log. Raises LogCorrupt where the log breaks its rules."""
    log = iter(events)
    first = next(log, None)
    if first is None:
        raise LogCorrupt("A run log cannot be empty.")
    state = RunState(first)
    for event in log:
        state.apply(event)
    return state
