"""How a run stands, in sentences; each is made from what the state of the run says, and from nothing else.

What is over is told as past: where things are later is for the pages about them to say.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from maestoso.core.planning.inputs import LIVE
from maestoso.core.replication.cost import in_size
from maestoso.core.runs.progress import measures
from maestoso.core.runs.state import RunState
from maestoso.core.runs.whereabouts import GIVEN_UP, done, fenced, up_at_target, writable_at_target
from maestoso.core.wording import counted, lasting

_VERDICTS = {"passed": "passed", "failed": "failed", "inconclusive": "was inconclusive"}
_FORWARD = ("bring-up", "hand-over", "close-down")
NAMED = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """A fence that could not be delivered when it was wanted, and whether it has been since."""

    workload: str
    delivered: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Backlog:
    """Bytes that a re-protect has to copy yet, and how fast they go, bytes a second."""

    left_bytes: int
    rate_bps: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """The sentences at the top of a run: what goes on or how it ended, what that means for production, and
    what is not as it should be."""

    lead: str
    under: str
    notices: tuple[str, ...]


def phase(state: RunState) -> str:
    """The phase that a run is in: the furthest in which anything was asked of a site."""
    if state.finished:
        return "finished"
    if state.decision == "commit":
        return "commit"
    if state.aborted_because is not None or state.verdict is not None or state.decision is not None:
        return "cleanup" if state.inputs.kind == "test" else "roll-back"
    if state.ready_s is not None:
        return "judge"
    begun = {step.phase for step in state.graph.steps if state.steps[step.id].attempt}
    return next((one for one in _FORWARD if one in begun), "prepare")


def standing(
    state: RunState, names: Mapping[str, str], kept: Sequence[Kept] = (), backlog: Backlog | None = None
) -> Standing:
    """How a run stands; ``names`` gives the names of sites by code."""
    made = _Words(state, names, kept)
    if state.inputs.kind == "re-protect":
        lead, under = made.of_reprotect(backlog)
    elif state.inputs.kind == "test":
        lead, under = made.of_test()
    else:
        lead, under = made.of_failover(), made.of_production()
    return Standing(lead=lead, under=under, notices=made.notices())


class _Words:
    def __init__(self, state: RunState, names: Mapping[str, str], kept: Sequence[Kept]) -> None:
        plan = state.inputs.plan
        self.state = state
        self.kept = kept
        self.plan = plan.name
        self.here, self.there = names.get(plan.source, plan.source), names.get(plan.target, plan.target)
        self.names = names
        self.members = plan.workloads()
        rpo_s = max(measures(state).rpo_s.values(), default=0.0)
        self.old = lasting(rpo_s)
        self.allowed = f"{plan.name} allows {lasting(plan.rpo_s)}"

    # --- isolated tests ---

    def of_test(self) -> tuple[str, str]:
        plan, there, ended = self.plan, self.there, self.state.outcome
        lead = {
            "cleanup": f"The test of {plan} is being cleaned up at {there}.",
            "judge": f"{plan} is up in a sandbox at {there} and waits for your verdict.",
            "prepare": f"Copies of {plan} are being prepared in a sandbox at {there}.",
        }.get(phase(self.state), f"{plan} is coming up in a sandbox at {there}.")
        if ended == "aborted":
            lead = f"The test of {plan} was aborted and cleaned up."
        elif ended:
            lead = f"The test of {plan} {_VERDICTS.get(ended, ended)} and is cleaned up."
        was, came = ("was", "were") if ended else ("is", "are")
        points = f"The copies {came} from points at most {self.old} old ({self.allowed})."
        return lead, f"Production at {self.here} {was} not touched. {points}"

    # --- re-protect ---

    def of_reprotect(self, backlog: Backlog | None) -> tuple[str, str]:
        plan, there = self.plan, self.there
        if self.state.outcome == "protected":
            return f"{plan} was protected again, from {self.here} to {there}.", self._ran("went on")
        if self.state.outcome:
            return f"Re-protecting {plan} was stopped; it was not protected then.", self._ran("went on")
        if backlog is None or backlog.left_bytes <= 0:
            return f"What differs in {plan} is being found and copied to {there}.", self._ran("go on")
        time = "waiting for the link"
        if backlog.rate_bps > 0:
            time = f"about {lasting(backlog.left_bytes / backlog.rate_bps)} to go"
        left = in_size(backlog.left_bytes)
        return f"{left} of {plan} are still to be copied to {there}, {time}.", self._ran("go on")

    def _ran(self, verb: str) -> str:
        return f"Services at {self.here} {verb} running meanwhile."

    # --- failovers ---

    def of_failover(self) -> str:
        plan, here, there, ended = self.plan, self.here, self.there, self.state.outcome
        if ended == "committed":
            return f"{plan} was moved to {there}; the failover was committed."
        if ended == "rolled back":
            return f"The failover of {plan} was rolled back; nothing of it was left at {there}."
        if ended:
            return f"The failover of {plan} was aborted and taken back."
        booted = sum(1 for _, member in self.state.inputs.plan.members() if member.power_on)
        up = len(up_at_target(self.state))
        which = plan if up == booted else f"{up} of {counted(booted, 'workload')} of {plan}"
        match phase(self.state):
            case "prepare":
                return f"{plan} is about to move to {there}."
            case "close-down":
                return f"{plan} is being shut down at {here}, in the reverse of its boot order."
            case "hand-over":
                return f"{plan} is on its way from {here} to {there}: {self._fenced()}, not up there yet."
            case "judge":
                is_up = "are" if up != booted and up != 1 else "is"
                return f"{which} {is_up} up at {there}. Look at it, then commit or roll back."
            case "commit":
                return f"{plan} stays at {there}; the commit is being carried out."
            case "roll-back":
                return f"{plan} is going back to {here}."
            case _:
                return f"{plan} is coming up at {there}."

    def _fenced(self) -> str:
        since = {one.workload for one in self.kept if one.delivered}
        off, all_of_them = len(fenced(self.state) | since), len(self.members)
        if off == all_of_them:
            return f"fenced at {self.here}"
        if not off:
            return f"nothing is fenced at {self.here}"
        return f"{off} of {all_of_them} are fenced at {self.here}"

    def of_production(self) -> str:
        """What a failover means for production, and how much work is lost."""
        state, ended = self.state, self.state.outcome
        if ended in ("rolled back", "aborted"):
            return f"Everything was left to {self.here} again, and its copying to {self.there} went on."
        decided = ended or state.decision or state.aborted_because
        back, was = "" if decided else " Until commit, all of it can go back.", "was" if ended else "is"
        if self._nothing_lost():
            last = f"what {self.here} wrote last was copied after it was off and fenced"
            return f"Nothing {was} lost: {last}.{back}"
        if state.inputs.kind == "planned":
            last = "what was written last is copied once everything is off and fenced"
            return f"Nothing will be lost: {last}.{back}"
        return f"Work of at most {self.old} {was} lost ({self.allowed}).{back}{self._fenced_since()}"

    def _fenced_since(self) -> str:
        if not self.state.finished or not self.kept or any(not one.delivered for one in self.kept):
            return ""
        return f" What was not confirmed off at {self.here} when it ended has been fenced since."

    def _nothing_lost(self) -> bool:
        copied = (done(self.state, f"final-sync:{c.code}") and not c.apart for c in self.state.inputs.groups)
        return not self.state.points and all(copied)

    # --- what is not as it should be ---

    def notices(self) -> tuple[str, ...]:
        state = self.state
        if not state.finished:
            lost = tuple(self._lost(site, why) for site, why in sorted(state.lost_sites.items()))
            return (*lost, *self._not_confirmed())
        return self._not_confirmed()

    def _lost(self, site: str, why: str) -> str:
        state, name = self.state, self.names.get(site, site)
        there = [step for step in state.in_flight if state.graph[step].site == site]
        waited_for = [step for step in there if step not in state.limited]
        said = f"{name} does not answer: {why}"
        if waited_for:
            waits = _steps(len(waited_for))
            return f"{said} {waits} there, and the run goes on with that when it is back."
        if there:
            return f"{said} What it was asked is waited for only a moment; then the run goes on without."
        return f"{said} Nothing of this run waits for it now."

    def _not_confirmed(self) -> tuple[str, ...]:
        """Source copies of a disaster run that nobody could confirm off, and what has become of that."""
        state = self.state
        if state.inputs.kind != "disaster" or state.outcome in ("rolled back", "aborted"):
            return ()
        if state.decision == "roll-back" or state.aborted_because is not None:
            return ()
        open_ones = [one.workload for one in self.kept if not one.delivered]
        if open_ones:
            alone = len(open_ones) == 1
            copies = "One copy" if alone else f"{len(open_ones)} copies"
            kept = "Its fence is kept" if alone else "Their fences are kept"
            named = f"{'is' if alone else 'are'} not confirmed off ({_some(open_ones)})"
            return (f"{copies} at {self.here} {named}. {kept}, and delivered when it answers.",)
        if self.kept and state.finished:
            return ()
        untouched = not any(step.verb == "fence" for step in state.graph.steps)
        promoted = any(writable_at_target(state, copy.code) for copy in state.inputs.groups)
        if untouched and promoted and not state.finished and not done(state, GIVEN_UP):
            chosen = f"Nothing at {self.here} was touched, as it was chosen"
            return (f"{chosen}: what runs there is not confirmed off.",)
        return ()


def _steps(count: int) -> str:
    return "One step waits" if count == 1 else f"{count} steps wait"


def _some(names: Sequence[str]) -> str:
    return ", ".join(names[:NAMED]) + (f" and {len(names) - NAMED} more" if len(names) > NAMED else "")


def abort_does(state: RunState, names: Mapping[str, str]) -> str:
    """What an abort would do from here."""
    plan, kind = state.inputs.plan, state.inputs.kind
    here, there = names.get(plan.source, plan.source), names.get(plan.target, plan.target)
    if kind == "test":
        return "Every copy and network of the test is removed. Production is not touched."
    if kind == "re-protect":
        return "Copying back stops. The groups stay unprotected until you start again."
    on = len(up_at_target(state))
    down = sum(1 for name in state.inputs.plan.workloads() if done(state, f"shut-down:{name}"))
    parts = []
    if on:
        is_off = "workload is" if on == 1 else "workloads are"
        parts.append(f"{on} {is_off} turned off at {there} and what changed there is discarded")
    if any(writable_at_target(state, group.code) for group in state.inputs.groups):
        parts.append("the copies are copies again")
    if down:
        is_on = "workload is" if down == 1 else "workloads are"
        parts.append(f"{down} {is_on} started again at {here}, in their order")
    said = "; then ".join(parts)
    return f"{said[0].upper()}{said[1:]}." if said else f"Nothing was done to {here} yet; it ends here."


def writable(state: RunState, group: str, since: frozenset[str] = frozenset()) -> str:
    """The site where a group can be written to, as far as the run knows: empty on the way between the two.

    ``since`` are workloads whose fences were kept, and delivered since.
    A source that was neither fenced nor heard is no place that anybody may count on, so it is not named.
    """
    plan, copy = state.inputs.plan, next(one for one in state.inputs.groups if one.code == group)
    if state.inputs.kind not in LIVE:
        return plan.source
    if writable_at_target(state, group):
        return plan.target
    if (fenced(state) | since) & set(copy.members) or plan.source in state.lost_sites:
        return ""
    return plan.source
