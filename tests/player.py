"""A run played by hand, for tests of what runs do."""

from __future__ import annotations

from datetime import timedelta

from maestoso.core.codec import to_data
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.controls import control
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.state import RunState
from tests import worlds


class Player:
    """A run driven by hand: time passes and steps end when the test says so."""

    def __init__(self, inputs: RunInputs | None = None) -> None:
        self.now = worlds.NOW
        first = Event(
            seq=1,
            at=self.now,
            run_s=0.0,
            kind="run.started",
            data={"inputs": to_data(inputs or worlds.inputs())},
            by="ann",
        )
        self.log = [first]
        self.state = RunState(first)
        self.go()

    def go(self, seconds: float = 0.0) -> None:
        """Let time pass, then decide."""
        self.now += timedelta(seconds=seconds)
        self.log += settle(self.state, self.now)[0]

    def write(self, draft: Draft) -> None:
        """Write one event and decide."""
        event = self.state.event(draft, self.now)
        self.state.apply(event)
        self.log.append(event)
        self.go()

    def done(self, *steps: str, seconds: float = 1.0) -> None:
        """Steps end well after some seconds."""
        self.now += timedelta(seconds=seconds)
        for step in steps:
            self.write(Draft(kind="step.done", data={"step": step, "result": {}}))

    def fail(self, step: str, code: str = "broken", reason: str = "It broke.") -> None:
        """A step fails."""
        self.write(Draft(kind="step.failed", data={"step": step, "code": code, "reason": reason}))

    def tell(self, kind: str, by: str = "ann", **more: str) -> None:
        """A person says something."""
        self.write(control(self.state, kind, by=by, **more))

    def until(self, step: str, tries: int = 400) -> None:
        """Everything in flight ends well until ``step`` is asked for or waits for a person."""
        for _ in range(tries):
            if self.state.steps[step].status != "waiting":
                return
            flying = sorted(self.state.in_flight)
            if flying:
                self.done(flying[0])
            else:
                self.go(5.0)
        raise AssertionError(f"{step} is still waiting")

    def status(self, step: str) -> str:
        """The status of a step."""
        return self.state.steps[step].status

    def to_the_end(self, tries: int = 400) -> None:
        """Everything that is still asked for ends well."""
        for _ in range(tries):
            if self.state.finished:
                return
            flying = sorted(self.state.in_flight)
            if flying:
                self.done(flying[0])
            else:
                self.go(5.0)
        raise AssertionError("the run does not end")


def finished_test(inputs: RunInputs | None = None) -> Player:
    """A test of the little world that passed, with one step that was tried twice."""
    play = Player(inputs)
    play.until("power-on:db")
    play.fail("power-on:db", reason="The host was busy.")
    play.tell("retry", step="power-on:db")
    play.until(VERDICT)
    play.tell("verdict", verdict="passed", text="All well.")
    play.to_the_end()
    return play
