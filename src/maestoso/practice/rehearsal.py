"""A run in virtual time: the rules of the engine and a practice world in one discrete-event loop.

An hour takes milliseconds, through the same ``settle`` and the same world as a run in wall time.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta

from maestoso.core.codec import to_data
from maestoso.core.model.names import NAME_SERVERS
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.ports import SiteRefused
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.operations import OperationState, operation_for, outcome
from maestoso.core.runs.state import RunState
from maestoso.core.runs.steps import RESOLVED
from maestoso.core.runs.watching import noticed, probed_at, watched
from maestoso.practice.world import World
from maestoso.sites.contract import Submission

SAID_EVERY = 200
"""Events between two words on how far it is."""

Person = Callable[[RunState], tuple[Draft, float] | None]
"""Looks at a run that waits and says what they do and after how many seconds; None to leave it waiting."""


class Rehearsal:
    """Plays one run on practice worlds, by the codes of their sites.

    ``log`` holds its events; ``state`` is what they amount to. A site without a world does not answer.
    ``away_s`` draws for how many seconds nobody decides, before each decision: an engine that was away, or
    was slow, finds several things at once.
    """

    def __init__(
        self, run: str, inputs: RunInputs, worlds: Mapping[str, World], start: datetime, by: str,
        away_s: Callable[[], float] = lambda: 0.0,
    ) -> None:  # fmt: skip
        self.run = run
        self.worlds = worlds
        self.away_s = away_s
        self.now = start
        first = Event(seq=1, at=start, run_s=0.0, kind="run.started", data={"inputs": to_data(inputs)}, by=by)
        self.log = [first]
        self.state = RunState(first)
        self.asked: dict[str, str] = {}

    def play(
        self, person: Person, most_events: int = 200_000, tell: Callable[[int, int], None] = lambda *_: None
    ) -> RunState:
        """Run until the end, or until it waits for somebody and ``person`` does nothing.

        ``tell`` hears once in a while how many steps of how many are settled.
        """
        self._advance(self.now.timestamp())
        said_at = 0
        while len(self.log) < most_events:
            events, wake_at = settle(self.state, self.now)
            self._write(events)
            if len(self.log) >= said_at:
                said_at = len(self.log) + SAID_EVERY
                tell(
                    sum(step.status in RESOLVED for step in self.state.steps.values()), len(self.state.steps)
                )
            if self.state.finished:
                break
            if self.state.persons or self.state.failed or self.state.held_because is not None:
                said = person(self.state)
                if said is not None:
                    draft, seconds = said
                    self._go_on_until(self.now + timedelta(seconds=seconds))
                    if self._still_asked(draft):
                        self._take(draft)
                    continue
            due = self._next_due()
            moments = [datetime.fromtimestamp(due, UTC)] if due is not None else []
            moments += [wake_at] if wake_at is not None else []
            if not moments:
                break
            self._move_to(max(min(moments), self.now) + timedelta(seconds=self.away_s()))
        return self.state

    def _go_on_until(self, moment: datetime) -> None:
        """While a person thinks the engine goes on deciding, so that nothing that is ready waits for them."""
        while True:
            events, wake_at = settle(self.state, self.now)
            self._write(events)
            due = self._next_due()
            moments = [datetime.fromtimestamp(due, UTC)] if due is not None else []
            moments += [wake_at] if wake_at is not None else []
            if self.state.finished or not moments or min(moments) > moment:
                break
            self._move_to(max(min(moments), self.now))
        self._move_to(max(moment, self.now))

    def _still_asked(self, draft: Draft) -> bool:
        """Whether what a person says was not decided otherwise while they thought about it."""
        step = draft.data.get("step")
        return not self.state.finished and (
            step is None or step in self.state.persons or step in self.state.failed
        )

    def _move_to(self, moment: datetime) -> None:
        """Let time pass, taking in what the site finishes on the way in the order it happens."""
        while True:
            due = self._next_due()
            at = None if due is None else datetime.fromtimestamp(due, UTC)
            if at is None or at > moment:
                break
            # The float is passed, not the datetime: a microsecond of rounding would leave it undone.
            self.now = max(at, self.now)
            self._advance(due if due is not None else self.now.timestamp())
        self.now = moment
        self._advance(moment.timestamp())

    def _collect(self) -> None:
        for key, step in list(self.asked.items()):
            if step not in self.state.in_flight:
                # It was not waited for any longer; what the site says now is not heard.
                del self.asked[key]
                continue
            answer = self.worlds[self.state.graph[step].site or ""].operation(key)
            if answer is not None and answer.settled:
                del self.asked[key]
                self._take(outcome(self.state.graph[step], answer, self.state.inputs.kind))

    def _next_due(self) -> float | None:
        dues = (world.next_due() for world in self.worlds.values())
        return min((due for due in dues if due is not None), default=None)

    def _advance(self, now: float) -> None:
        for world in self.worlds.values():
            world.advance(now)
        # As the engine does: what sites finished is taken in first, then what probes saw.
        self._collect()
        self._watch()

    def _watch(self) -> None:
        """Probe services from outside, as the engine does."""
        services = watched(self.state.inputs)
        if services and not self.state.finished:
            (sites, mark), names = probed_at(self.state.inputs), [workload for workload, _ in services]
            answering = {site: self._answering(site, names, mark) for site in sites}
            draft = noticed(self.state, answering)
            if draft is not None:
                self._take(draft)

    def _answering(self, site: str, names: list[str], mark: str) -> set[tuple[str, str]] | None:
        world = self.worlds.get(site)
        if world is None:
            return None
        return {(name, service) for name, found in world.answering(names, mark).items() for service in found}

    def _take(self, draft: Draft) -> None:
        event = self.state.event(draft, self.now)
        self.state.apply(event)
        self._write([event])

    def _write(self, events: list[Event]) -> None:
        self.log += events
        for event in events:
            if event.kind == "step.asked":
                self._send(event.data["step"])

    def _name(self, step: str) -> None:
        """Name servers do at once what they are asked for; what they are is for nobody to rehearse."""
        operation = operation_for(self.state, self.run, step)
        done = OperationState(key=operation.key, status="done", result={"names": operation.args["names"]})
        self._take(outcome(self.state.graph[step], done, self.state.inputs.kind))

    def _send(self, step: str) -> None:
        if self.state.graph[step].site == NAME_SERVERS:
            self._name(step)
            return
        world = self.worlds.get(self.state.graph[step].site or "")
        if world is None:
            return
        operation = operation_for(self.state, self.run, step)
        self.asked[operation.key] = step
        submission = Submission(
            verb=operation.verb,
            subject=operation.subject,
            run=self.run,
            fence=1,
            args=dict(operation.args),
            pace=operation.pace,
        )
        try:
            world.submit(operation.key, submission, self.now.timestamp())
        except SiteRefused as refused:
            del self.asked[operation.key]
            failed = OperationState(
                key=operation.key, status="failed", code=refused.code, reason=refused.reason
            )
            self._take(outcome(self.state.graph[step], failed, self.state.inputs.kind))
