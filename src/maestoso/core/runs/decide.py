"""``decide``: from the state of a run and the time to what happens next."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from maestoso.core.planning.failover import ACKNOWLEDGE, ASK_SOURCE, DECISION
from maestoso.core.planning.graph import TO_READY
from maestoso.core.planning.isolated_test import LEAK_CHECK, VERDICT
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.progress import measures
from maestoso.core.runs.state import RunState
from maestoso.core.scheduling.list_schedule import capacity

TIME_GRAIN_S = 1e-6
"""Events carry microseconds; a step that is due within one is due now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class NextEvents:
    """Events to write now, and when to decide again if nothing else happens before."""

    drafts: tuple[Draft, ...]
    wake_at: datetime | None


def decide(state: RunState, now: datetime) -> NextEvents:
    """What must be written next. Pure; an empty decision with no ``wake_at`` waits for somebody.

    Only drafts that cannot exclude each other come together: what ends, aborts or holds the run is decided
    before anything is started, and what is started is decided in the light of it.
    """
    if state.finished:
        return NextEvents(drafts=(), wake_at=None)
    for look in (_for_silence, _for_failures, _for_people):
        drafts = look(state, now)
        if drafts:
            return NextEvents(drafts=tuple(drafts), wake_at=None)
    drafts, next_due_s = _starts(state, now)
    if not drafts and state.left == 0:
        drafts.append(_finish(state))
    return NextEvents(drafts=tuple(drafts), wake_at=None if drafts else _wake_at(state, now, next_due_s))


def settle(state: RunState, now: datetime) -> tuple[list[Event], datetime | None]:
    """Apply decisions to ``state`` until there is nothing left to decide at ``now``.

    Returns the events, in order, and when to look again. The events must be durable before any step they
    ask for is sent.
    """
    events: list[Event] = []
    while True:
        decision = decide(state, now)
        if not decision.drafts:
            return events, decision.wake_at
        for draft in decision.drafts:
            event = state.event(draft, now)
            state.apply(event)
            events.append(event)


def _for_silence(state: RunState, now: datetime) -> list[Draft]:
    """Steps that are not waited for any longer. What the site does about them later is not heard."""
    drafts = []
    for name in sorted(state.in_flight):
        ends = waits_until(state, name)
        if ends is not None and now >= ends:
            step = state.graph[name]
            code = "no-answer" if step.limit_s else "overdue"
            waited = (now - (state.steps[name].asked_at or now)).total_seconds()
            reason = f"{step.site} did not say within {waited:.0f} s what became of it."
            if _silent_already(state, name):
                reason = f"{step.site} was silent before the start, and could not be reached now either."
            elif name != ASK_SOURCE and step.limit_s and step.site in state.lost_sites:
                reason = f"{step.site} does not answer any more: {state.lost_sites[step.site]}"
            drafts.append(Draft(kind="step.failed", data={"step": name, "code": code, "reason": reason}))
    return drafts


def _silent_already(state: RunState, name: str) -> bool:
    """Whether a source need not be waited for: it was waited for long enough before the start, and was just
    tried once more, by another process over another line."""
    live, site = state.inputs.live, state.graph[name].site
    return name == ASK_SOURCE and live is not None and live.source_silent and site in state.lost_sites


OVERDUE_S = 3600.0
"""Machine seconds after which an operation that its site still calls running is given up, if it has no time
limit of its own. A site that is silent is waited for."""
GRACE_S = 60.0
GONE_S = 60.0
"""A source that is lost in the middle of a disaster may be back within this: its agent is started anew."""
TRIED_S = 1.0
"""For so long what is asked of it after that is waited for."""
ENDLESS = frozenset({"reverse-copying", "sync"})
"""Verbs that take as long as the data needs."""


def waits_until(state: RunState, name: str) -> datetime | None:
    """Until when a step in flight is waited for; None for as long as it takes."""
    step, asked = state.graph[name], state.steps[name].asked_at
    if asked is None:
        raise AssertionError(f"{name} is in flight and was never asked for")
    if step.limit_s:
        ends = asked + timedelta(seconds=0.0 if _silent_already(state, name) else step.limit_s)
        if step.site != state.inputs.plan.source or step.site not in state.lost_sites:
            return ends
        # A source that is lost in the middle is waited for once, and not for each of its steps anew. Without
        # the target, which makes the last copy, nothing could go on.
        lost = state.lost_at[step.site] + timedelta(seconds=GONE_S)
        return min(ends, max(lost, asked + timedelta(seconds=TRIED_S)))
    if step.verb in ENDLESS or step.site in state.lost_sites:
        return None
    if "within_s" in step.args:
        return asked + timedelta(seconds=float(step.args["within_s"]) + GRACE_S)
    own = float(step.args.get("timeout_s") or step.args.get("limit_s") or 0.0)
    allowed = (own * 2 if own else OVERDUE_S) / state.inputs.pace + GRACE_S
    # A site that was away is given its time anew: what it did meanwhile it has yet to say.
    return max(asked, state.back_at.get(step.site or "", asked)) + timedelta(seconds=allowed)


def _for_failures(state: RunState, now: datetime) -> list[Draft]:
    """Up to the first that holds the run: what comes after that is decided in a run that is held."""
    drafts = []
    for name in sorted(state.failed):
        step, failure = state.graph[name], state.steps[name]
        if state.inputs.unattended and step.skippable:
            reason = f"Nobody is there to ask: {failure.reason}"
            drafts.append(Draft(kind="step.skipped", data={"step": name, "reason": reason}))
        elif step.on_failure == "go-on" and step.skippable:
            reason = f"The plan says to go on when this fails: {failure.reason}"
            drafts.append(Draft(kind="step.skipped", data={"step": name, "reason": reason}))
        elif step.on_failure == "stop" and name not in state.stopped_for:
            reason = f"{step.title} failed: {failure.reason}"
            return [*drafts, Draft(kind="run.held", data={"step": name, "reason": reason})]
    return drafts


def _for_people(state: RunState, now: datetime) -> list[Draft]:
    due = state.inputs.cleanup_at
    if state.inputs.unattended:
        return _unattended(state, now)
    if VERDICT in state.persons and due is not None and now >= due:
        notes = "Nobody judged this test before its end time; it was cleaned up by itself."
        return [Draft(kind="verdict.given", data={"verdict": "inconclusive", "notes": notes})]
    live = state.inputs.live
    window = window_ends(state)
    if live is not None and window is not None and now >= window:
        notes = f"Nobody decided within {live.decide_within_s} s."
        return [Draft(kind="decision.given", data={"decision": live.then, "notes": notes})]
    if live is not None and live.acknowledged and ACKNOWLEDGE in state.persons:
        text = "Acknowledged when the run was started."
        return [Draft(kind="hold.answered", data={"step": ACKNOWLEDGE, "text": text}, by=state.started_by)]
    for name in sorted(state.persons):
        limit = hold_ends(state, name)
        if limit is not None and now >= limit:
            # One at a time: it may abort or hold the run, and then the next one means something else.
            return [_unanswered(state, name)]
    return []


def _unattended(state: RunState, now: datetime) -> list[Draft]:
    """What a test says in the stead of the people that it does not have."""
    if VERDICT in state.persons:
        verdict, notes = judged_by_itself(state)
        return [Draft(kind="verdict.given", data={"verdict": verdict, "notes": notes})]
    due = state.inputs.cleanup_at
    if due is not None and now >= due and state.verdict is None and state.aborted_because is None:
        reason = "It needs a look: its end time came before everything was up."
        return [Draft(kind="run.aborted", data={"reason": reason})]
    text = "This test runs unattended, so nobody was asked."
    return [Draft(kind="hold.answered", data={"step": name, "text": text}) for name in sorted(state.persons)]


def judged_by_itself(state: RunState) -> tuple[str, str]:
    """The verdict of an unattended test and why: passed only where nothing was skipped."""
    told = []
    missed = [step for step in state.graph.steps if step.phase in TO_READY and _passed_over(state, step.id)]
    if missed:
        named = [f"{step.workload}: {step.title}" if step.workload else step.title for step in missed[:3]]
        more = f" and {len(missed) - 3} more" if len(missed) > 3 else ""
        told.append(f"these did not go well: {', '.join(named)}{more}")
    took, objective = measures(state).rto_s, state.inputs.plan.rto_s
    if took is not None and took > objective:
        told.append(f"it took {took:.0f} s and should take {objective} s at most")
    if not told:
        return "passed", "Judged by itself: everything came up and answered, in time."
    return "inconclusive", f"It needs a look: {'; '.join(told)}."


def _passed_over(state: RunState, step: str) -> bool:
    return state.steps[step].status == "skipped" and state.steps[step].attempt > 0


def window_ends(state: RunState) -> datetime | None:
    """When the decision window ends by itself; None where nothing is to be decided, or it has no end."""
    asked = state.steps[DECISION].asked_at if DECISION in state.persons else None
    if state.inputs.live is None or not state.inputs.live.decide_within_s or asked is None:
        return None
    return asked + timedelta(seconds=state.inputs.live.decide_within_s)


def hold_ends(state: RunState, name: str) -> datetime | None:
    """When a hold that nobody answered ends by itself; None where it does not."""
    limit_s, asked = state.graph[name].args.get("limit_s"), state.steps[name].asked_at
    if not limit_s or asked is None or name in state.stopped_for or state.steps[name].refused_by:
        return None
    return asked + timedelta(seconds=limit_s)


def _unanswered(state: RunState, name: str) -> Draft:
    step = state.graph[name]
    said = f"Nobody answered {step.title} within {step.args['limit_s']} s"
    match step.args["then"]:
        case "go-on":
            return Draft(kind="hold.answered", data={"step": name, "text": f"{said}, so it goes on."})
        case "abort":
            return Draft(kind="run.aborted", data={"reason": f"{said}."})
        case _:
            return Draft(kind="run.held", data={"step": name, "reason": f"{said}."})


def _starts(state: RunState, now: datetime) -> tuple[list[Draft], float | None]:
    """Steps that can go now, longest remaining path first, and the run time when the next one is due."""
    drafts = [
        Draft(kind="step.skipped", data={"step": name, "reason": reason})
        for name, reason in sorted(state.pointless.items())
    ]
    if state.held_because is not None:
        return drafts, None
    now_s = state.run_seconds(now)
    next_due_s: float | None = None
    for slot, queue in state.queues.items():
        free = capacity(state.inputs.limits, slot) - state.slots_taken[slot] if slot else len(queue)
        for _, name in queue:
            if free <= 0:
                break
            eligible_s = state.steps[name].eligible_s or 0.0
            if name in state.pointless:
                continue
            if eligible_s > now_s + TIME_GRAIN_S:
                next_due_s = eligible_s if next_due_s is None else min(next_due_s, eligible_s)
                continue
            drafts.append(_start(state, name))
            free -= 1
    return drafts, next_due_s


def _start(state: RunState, name: str) -> Draft:
    step = state.graph[name]
    if step.person:
        return Draft(kind="step.waits", data={"step": name})
    if step.site is None:
        return Draft(kind="step.done", data={"step": name, "result": {}})
    return Draft(kind="step.asked", data={"step": name, "attempt": state.steps[name].attempt + 1})


def _finish(state: RunState) -> Draft:
    leak = state.steps.get(LEAK_CHECK)
    remains = list(leak.result.get("remains", [])) if leak is not None else []
    return Draft(kind="run.finished", data={"outcome": _outcome(state), "remains": remains})


def _outcome(state: RunState) -> str | None:
    if state.aborted_because is not None:
        return "aborted"
    if state.inputs.kind == "re-protect":
        return "protected"
    if state.decision is not None:
        return {"commit": "committed", "roll-back": "rolled back"}[state.decision]
    return state.verdict


def _wake_at(state: RunState, now: datetime, next_due_s: float | None) -> datetime | None:
    moments = []
    if next_due_s is not None:
        wall = (next_due_s - state.run_seconds(now)) / state.inputs.pace
        # Rounded up by a microsecond: waking a moment early would only mean waking twice.
        moments.append(now + timedelta(seconds=wall) + timedelta(microseconds=1))
    waits = VERDICT in state.persons or (state.inputs.unattended and state.aborted_because is None)
    if waits and state.verdict is None and state.inputs.cleanup_at is not None:
        moments.append(state.inputs.cleanup_at)
    moments += [ends for name in state.in_flight if (ends := waits_until(state, name)) is not None]
    window = window_ends(state)
    moments += [window] if window is not None else []
    moments += [ends for name in state.persons if (ends := hold_ends(state, name)) is not None]
    return min(moments, default=None)
