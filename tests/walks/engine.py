"""The engine and the keeper of a walk: the rules of the real ones, one after the other, in virtual time."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta

from django.core.cache import cache
from django.db import transaction

from maestoso.core.ports import SiteRefused
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.operations import Operation, OperationState, operation_for, outcome
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.watching import noticed, probed_at, watched
from maestoso.server.estate.models import Site
from maestoso.server.keeper.tasks import listen, reconcile_groups
from maestoso.server.outbox.services import deliver_waiting
from maestoso.server.readiness.starts import follow_ups
from maestoso.server.runs.events import read_log, run_name
from maestoso.server.runs.fences import give_up_what_is_fenced
from maestoso.server.runs.log import write_events
from maestoso.server.runs.models import Run
from tests.walks.sites import Clock, NearSite, utc

KEEP_EVERY_S = 600.0
MOST_TURNS = 20_000


class Engine:
    """Drives all runs of the records on the worlds of a walk."""

    def __init__(self, sites: Mapping[str, NearSite], clock: Clock) -> None:
        self.sites = sites
        self.clock = clock
        self.keep_at = clock.now()
        self._states: dict[int, RunState] = {}

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
        for look in (listen, deliver_waiting, reconcile_groups):
            for site in Site.objects.all():
                look(site, self.clock)
        give_up_what_is_fenced(self.clock)
        follow_ups(self.clock)
        cache.clear()
        self.keep_at = self.clock.now() + timedelta(seconds=KEEP_EVERY_S)

    def _turn(self) -> list[datetime]:
        """Take in, decide and send, run by run; the moments at which they want to look again."""
        now = self.clock.now()
        for site in self.sites.values():
            site.world.advance(now.timestamp())
        wakes = []
        under_way = Run.objects.filter(outcome="", last_seq__gt=0)
        for pk, head in under_way.values_list("pk", "last_seq"):
            wake_at = self._drive(pk, head)
            if wake_at is not None:
                wakes.append(wake_at)
        return wakes

    def _drive(self, pk: int, head: int) -> datetime | None:
        while True:
            # The state is nobody's until the events are written: whoever asks next folds them in.
            state = self._states.pop(pk, None) or fold(read_log(pk))
            if head > state.seq:
                for event in read_log(pk, state.seq):
                    state.apply(event)
            events = self._take_in(pk, state)
            decided, wake_at = settle(state, self.clock.now())
            events += decided
            if not events:
                self._states[pk] = state
                return wake_at
            with transaction.atomic():
                run = Run.objects.select_for_update().get(pk=pk)
                write_events(run, events, fence=1)
            if not state.finished:
                self._states[pk] = state

    def _take_in(self, pk: int, state: RunState) -> list[Event]:
        drafts = [*self._answers(pk, state), *self._reachability(state)]
        events = [self._apply(state, draft) for draft in drafts]
        seen = self._seen(state)
        return events + ([self._apply(state, seen)] if seen is not None else [])

    def _apply(self, state: RunState, draft: Draft) -> Event:
        event = state.event(draft, self.clock.now())
        state.apply(event)
        return event

    def _answers(self, pk: int, state: RunState) -> list[Draft]:
        """What became of everything in flight. What no site knows of is sent, as after a crash."""
        drafts = []
        for step in sorted(state.in_flight):
            site = self.sites[state.graph[step].site or ""]
            if site.answers:
                answer = self._ask(site, operation_for(state, run_name(pk), step))
                if answer.settled:
                    drafts.append(outcome(state.graph[step], answer, state.inputs.kind))
        return drafts

    def _ask(self, site: NearSite, operation: Operation) -> OperationState:
        known = site.world.operation(operation.key)
        if known is not None:
            return known
        try:
            return site.submit(operation, fence=1)
        except SiteRefused as refused:
            return OperationState(
                key=operation.key, status="failed", code=refused.code, reason=refused.reason
            )

    def _reachability(self, state: RunState) -> list[Draft]:
        drafts = []
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
        (places, mark), names = probed_at(state.inputs), [workload for workload, _ in services]
        answering = {}
        for code in places:
            site = self.sites[code]
            found = site.world.answering(names, mark) if site.answers else None
            answering[code] = (
                None if found is None else {(name, one) for name, ones in found.items() for one in ones}
            )
        return noticed(state, answering)
