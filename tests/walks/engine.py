"""The engine and the keeper of a walk: the rules of the real ones, one after the other, in virtual time."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta

from django.core.cache import cache
from django.db import transaction

from maestoso.core.ports import SiteRefused
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.operations import OperationState, operation_for, outcome
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.watching import noticed, watched
from maestoso.server.protection.keeper import listen, look_after
from maestoso.server.runs.fences import deliver_fences
from maestoso.server.runs.log import read_log, run_name, write_events
from maestoso.server.runs.models import Run
from maestoso.server.runs.services import follow_ups
from tests.walks.sites import Clock, NearSite, utc

KEEP_EVERY_S = 600.0
MOST_TURNS = 20_000


@dataclass(slots=True)
class Driven:
    """A run under way. ``asked`` maps keys in flight to steps; ``unsent`` are those that no site has yet."""

    state: RunState
    asked: dict[str, str] = field(default_factory=dict)
    unsent: set[str] = field(default_factory=set)


class Engine:
    """Drives all runs of the records on the worlds of a walk."""

    def __init__(self, sites: Mapping[str, NearSite], clock: Clock) -> None:
        self.sites = sites
        self.clock = clock
        self.runs: dict[int, Driven] = {}
        self.keep_at = clock.now()

    def pass_time(self, seconds: float) -> None:
        """Let time pass; everything happens in its order."""
        until = self.clock.now() + timedelta(seconds=seconds)
        for _ in range(MOST_TURNS):
            wakes = self._turn()
            now = self.clock.now()
            if now >= self.keep_at:
                self.keep()
                continue
            if now >= until:
                return
            dues = [utc(due) for site in self.sites.values() if (due := site.world.next_due()) is not None]
            moments = [moment for moment in (*dues, *wakes, self.keep_at) if moment > now]
            self.clock.moment = min([until, *moments])
        raise AssertionError("the walk does not get on: something happens again and again at the same moment")

    def keep(self) -> None:
        """What the keeper does."""
        cache.clear()
        for look in (listen, deliver_fences, look_after, follow_ups):
            look(self.clock)
        cache.clear()
        self.keep_at = self.clock.now() + timedelta(seconds=KEEP_EVERY_S)

    def _turn(self) -> list[object]:
        now = self.clock.now()
        for site in self.sites.values():
            site.world.advance(now.timestamp())
        wakes = []
        for pk, seq in Run.objects.filter(outcome="", last_seq__gt=0).values_list("pk", "last_seq"):
            driven = self.runs.get(pk)
            if driven is None:
                driven = self.runs[pk] = Driven(fold(read_log(pk)))
            elif seq > driven.state.seq:
                for event in read_log(pk, driven.state.seq):
                    driven.state.apply(event)
            wake_at = self._drive(pk, driven)
            if wake_at is not None:
                wakes.append(wake_at)
            if driven.state.finished:
                del self.runs[pk]
        return wakes

    def _drive(self, pk: int, driven: Driven) -> object:
        now, state = self.clock.now(), driven.state
        drafts = [*self._answers(driven), *self._reachability(driven)]
        events = [self._apply(state, draft) for draft in drafts]
        seen = self._seen(state)
        events += [self._apply(state, seen)] if seen is not None else []
        decided, wake_at = settle(state, now)
        events += decided
        if events:
            with transaction.atomic():
                run = Run.objects.select_for_update().get(pk=pk)
                write_events(run, events, fence=1)
        for event in events:
            if event.kind == "step.asked":
                driven.unsent.add(event.data["step"])
        settled = {event.data["step"] for event in events if event.kind in ("step.done", "step.failed")}
        driven.asked = {key: step for key, step in driven.asked.items() if step not in settled}
        driven.unsent &= state.in_flight
        self._send(run_name(pk), driven)
        return wake_at

    def _apply(self, state: RunState, draft: Draft) -> Event:
        event = state.event(draft, self.clock.now())
        state.apply(event)
        return event

    def _answers(self, driven: Driven) -> list[Draft]:
        drafts = []
        for key, step in driven.asked.items():
            site = self.sites[driven.state.graph[step].site or ""]
            answer = site.world.operation(key) if site.answers and step in driven.state.in_flight else None
            if answer is not None and answer.settled:
                drafts.append(outcome(driven.state.graph[step], answer))
        return drafts

    def _reachability(self, driven: Driven) -> list[Draft]:
        state, drafts = driven.state, []
        flown_to = {state.graph[step].site for step in state.in_flight}
        for code, site in self.sites.items():
            if not site.answers and code in flown_to and code not in state.lost_sites:
                reason = "No connection to the site agent."
                drafts.append(Draft(kind="site.lost", data={"site": code, "reason": reason}))
            elif site.answers and code in state.lost_sites:
                drafts.append(Draft(kind="site.back", data={"site": code}))
        return drafts

    def _seen(self, state: RunState) -> Draft | None:
        services = watched(state.inputs)
        if not services or state.finished:
            return None
        plan, names = state.inputs.plan, [workload for workload, _ in services]
        answering = {}
        for code in (plan.source, plan.target):
            site = self.sites[code]
            found = site.world.answering(names) if site.answers else None
            answering[code] = (
                None if found is None else {(name, one) for name, ones in found.items() for one in ones}
            )
        return noticed(state, answering)

    def _send(self, run: str, driven: Driven) -> None:
        for step in sorted(driven.unsent):
            site = self.sites[driven.state.graph[step].site or ""]
            if not site.answers:
                continue
            operation = operation_for(driven.state, run, step)
            driven.unsent.discard(step)
            driven.asked[operation.key] = step
            try:
                site.submit(operation, fence=1)
            except SiteRefused as refused:
                failed = OperationState(
                    key=operation.key, status="failed", code=refused.code, reason=refused.reason
                )
                del driven.asked[operation.key]
                self._write_refusal(driven, step, failed)

    def _write_refusal(self, driven: Driven, step: str, failed: OperationState) -> None:
        pk = next(pk for pk, one in self.runs.items() if one is driven)
        event = self._apply(driven.state, outcome(driven.state.graph[step], failed))
        with transaction.atomic():
            write_events(Run.objects.select_for_update().get(pk=pk), [event], fence=1)
