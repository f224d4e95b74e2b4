"""Everything that two engines, one site, one person and a lossy line can do to one run, in every order.

The log is decided on by the real rules (``fold``, ``settle``, ``outcome``, ``operation_for``, ``control``); who may
write to it, what a site remembers and what is on the way between them is here, as the contracts of the run log
(``tests/run_log.py``) and of sites (``docs/site-protocol.md``) say it. Virtual time stands still: a lease that has
run out is something that happens. Messages are never taken off the line, so each may come late, twice or never.

:func:`explore` visits every state within the bounds, checks every promise in each, and that from each of them the
run can still come to its end; ``tests.engine.schedules`` goes through larger bounds by chance.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from unittest import mock

from maestoso.core.codec import to_data
from maestoso.core.errors import LogCorrupt, Refused
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.runs.controls import control
from maestoso.core.runs.decide import settle
from maestoso.core.runs.events import Event
from maestoso.core.runs.operations import OperationState, operation_for, outcome
from maestoso.core.runs.state import RunState, fold
from tests import worlds
from tests.engine.exploring import explored

RUN = "r"
NOW = worlds.NOW
SITE = "B"
STEPS = (
    Step(id="one", verb="register", subject="one", site=SITE, phase="prepare", title="One"),
    Step(id="ask", verb="hold", subject="", phase="prepare", title="Ask", person=True, after=("one",)),
    Step(id="two", verb="register", subject="two", site=SITE, phase="prepare", title="Two", after=("ask",)),
)
"""A step, a question to a person, and a step behind it. The first may fail."""


@dataclass(frozen=True)
class Bounds:
    """How often each of these may happen."""

    claims: int = 2
    crashes: int = 1
    failures: int = 1
    aborts: int = 1


@dataclass(frozen=True)
class Rules:
    """What the design says; a test switches one off to see that the exploration finds what it is for."""

    send_after_commit: bool = True
    one_key_for_an_attempt: bool = True
    ask_again_after_a_crash: bool = True
    log_refuses_who_is_behind: bool = True
    site_remembers: bool = True


@dataclass(frozen=True)
class Engine:
    """What an engine has in memory: its fence, the log as it read it, what it asked for and what it heard."""

    fence: int
    seen: int
    asked: frozenset[str]
    heard: frozenset[tuple[str, str]] = frozenset()


@dataclass(frozen=True)
class State:
    """All there is at one moment; ``log`` is a number in :class:`Logs`."""

    left: Bounds
    log: int = 0
    owner: int = -1
    fence: int = 0
    run_out: bool = False
    engines: tuple[Engine | None, ...] = (None, None)
    sent: frozenset[tuple[str, int]] = frozenset()
    site_fence: int = 0
    done: frozenset[tuple[str, str]] = frozenset()
    effects: tuple[str, ...] = ()


class Logs:
    """Logs that came up, each once: most ways lead to the same few."""

    def __init__(self) -> None:
        first = Event(
            seq=1, at=NOW, run_s=0.0, kind="run.started", data={"inputs": to_data(worlds.inputs())}, by="ann"
        )
        self.events: list[tuple[Event, ...]] = [(first,)]
        self._known: dict[tuple[int, str], int] = {}
        self._decided: dict[tuple[int, frozenset[tuple[str, str]]], int] = {}
        self._flying: dict[int, dict[str, str]] = {}
        self._words: dict[int, list[tuple[str, int]]] = {}
        self._trouble: dict[int, str] = {}

    def state(self, log: int) -> RunState:
        """Folded anew, to be changed by who asked."""
        return fold(self.events[log])

    def behind(self, log: int, events: tuple[Event, ...]) -> int:
        """The log that has these behind it."""
        key = (log, repr([(event.kind, event.data, event.by) for event in events]))
        if key not in self._known:
            self._known[key] = len(self.events)
            self.events.append((*self.events[log], *events))
        return self._known[key]

    def words(self, log: int) -> list[tuple[str, int]]:
        """What a person may say to it now, with the log after that."""
        if log not in self._words:
            state, found = self.state(log), []
            wanted = [("answer", name) for name in sorted(state.persons)]
            wanted += [("retry", name) for name in sorted(state.failed)]
            for kind, step in [*wanted, ("abort", "")]:
                try:
                    draft = control(state, kind, by="ann", step=step)
                except Refused:
                    continue
                found.append((f"{kind} {step}".strip(), self.behind(log, (state.event(draft, NOW),))))
            self._words[log] = found
        return self._words[log]

    def trouble(self, log: int) -> str:
        """Why it cannot be read; empty where it can."""
        if log not in self._trouble:
            try:
                self.state(log)
                self._trouble[log] = ""
            except LogCorrupt as error:
                self._trouble[log] = error.sentence
        return self._trouble[log]

    def flying(self, log: int) -> dict[str, str]:
        """What is asked for and not settled, as keys with their steps."""
        if log not in self._flying:
            state = self.state(log)
            self._flying[log] = {operation_for(state, RUN, step).key: step for step in state.in_flight}
        return self._flying[log]

    def decided(self, log: int, heard: frozenset[tuple[str, str]]) -> int:
        """The log after an engine took in what it heard and decided, as the conductor does."""
        if (log, heard) not in self._decided:
            state, events = self.state(log), []
            for key, status in sorted(heard):
                step = next((one for known, one in self.flying(log).items() if key.startswith(known)), None)
                if step is not None and step in state.in_flight:
                    answer = OperationState(key=key, status=status, code="no", reason="No.")  # type: ignore[arg-type]
                    events.append(state.event(outcome(state.graph[step], answer, state.inputs.kind), NOW))
                    state.apply(events[-1])
            events += settle(state, NOW)[0]
            self._decided[log, heard] = self.behind(log, tuple(events)) if events else log
        return self._decided[log, heard]


class OneRun:
    """Two engines, a person and a site at one run."""

    def __init__(self, bounds: Bounds, rules: Rules) -> None:
        self.rules = rules
        self.logs = Logs()
        self.first = State(left=bounds)

    def moves(self, now: State) -> Iterator[tuple[str, State]]:
        """All that can happen next, in words, with what is then."""
        if not self.over(now):
            for number in range(len(now.engines)):
                yield from self._of_engine(now, number)
            yield from self._of_person(now)
            if now.owner >= 0 and not now.run_out and now.left.claims:
                yield "the lease runs out", replace(now, run_out=True)
        for key, fence in sorted(now.sent):
            yield from self._arrives(now, key, fence)

    def over(self, now: State) -> bool:
        """Whether the run has ended."""
        return self._ended(now.log)

    def may_rest(self, now: State) -> bool:
        """Where nobody is left who has the run, or may yet take it over, the bounds end it."""
        has_it = any(engine is not None and engine.fence == now.fence for engine in now.engines)
        return not now.left.claims and not has_it

    def _ended(self, log: int) -> bool:
        return self.logs.events[log][-1].kind == "run.finished"

    def _of_engine(self, now: State, number: int) -> Iterator[tuple[str, State]]:
        engine, who = now.engines[number], f"engine {number}"
        if now.left.claims and (now.owner in (-1, number) or now.run_out) and engine is None:
            yield f"{who} takes the run over", self._taken_over(now, number)
        if engine is None:
            return
        if now.left.crashes:
            yield f"{who} dies", self._died(now, number)
        if engine.seen != now.log:
            yield f"{who} reads the log", self._with(now, number, replace(engine, seen=now.log))
        for key, status in sorted(now.done - engine.heard):
            if key in engine.asked:
                heard = replace(engine, heard=engine.heard | {(key, status)})
                yield f"{who} hears that {key} is {status}", self._with(now, number, heard)
        yield from self._commits(now, number, engine)

    def _taken_over(self, now: State, number: int) -> State:
        fence = now.fence + 1
        asked = {self._key(key, fence) for key in self.logs.flying(now.log)}
        engine = Engine(fence=fence, seen=now.log, asked=frozenset(asked))
        left = replace(now.left, claims=now.left.claims - 1)
        again = {(key, fence) for key in asked} if self.rules.ask_again_after_a_crash else set()
        taken = replace(now, owner=number, fence=fence, run_out=False, left=left, sent=now.sent | again)
        return self._with(taken, number, engine)

    def _commits(self, now: State, number: int, engine: Engine) -> Iterator[tuple[str, State]]:
        log, who = self.logs.decided(engine.seen, engine.heard), f"engine {number}"
        if log == engine.seen:
            return
        before, flying = set(self.logs.flying(engine.seen)), set(self.logs.flying(log))
        fresh = {self._key(key, engine.fence) for key in flying - before}
        puts = {(key, engine.fence) for key in fresh}
        if not self.rules.send_after_commit and puts - now.sent:
            yield f"{who} sends before it has written", replace(now, sent=now.sent | puts)
        if engine.fence != now.fence:
            yield f"{who} is refused by the log", self._with(now, number, None)
        elif engine.seen != now.log and self.rules.log_refuses_who_is_behind:
            yield f"{who} is behind", self._with(now, number, replace(engine, seen=now.log))
        else:
            if engine.seen != now.log:
                # What it decided is written behind what it has not read.
                more = self.logs.events[log][len(self.logs.events[engine.seen]) :]
                log = self.logs.behind(now.log, more)
            keys = frozenset(key for key in engine.asked if key.split("@")[0] in flying) | fresh
            known = None if self._ended(log) else replace(engine, seen=log, asked=keys)
            written = replace(now, log=log)
            yield f"{who} writes and sends", self._with(replace(written, sent=now.sent | puts), number, known)
            if now.left.crashes:
                yield f"{who} writes and dies", self._died(written, number)

    def _died(self, now: State, number: int) -> State:
        left = replace(now.left, crashes=now.left.crashes - 1)
        return self._with(replace(now, left=left), number, None)

    def _of_person(self, now: State) -> Iterator[tuple[str, State]]:
        for word, log in self.logs.words(now.log):
            aborts = now.left.aborts - (word == "abort")
            if aborts >= 0:
                yield f"ann says {word}", replace(now, log=log, left=replace(now.left, aborts=aborts))

    def _arrives(self, now: State, key: str, fence: int) -> Iterator[tuple[str, State]]:
        if fence < now.site_fence:
            return
        heard = replace(now, site_fence=fence)
        if key in {known for known, _ in now.done} and self.rules.site_remembers:
            if heard != now:
                yield f"{key} arrives under fence {fence}", heard
            return
        if now.effects.count(key) < 2:
            done = replace(heard, effects=(*now.effects, key), done=now.done | {(key, "done")})
            yield f"{key} arrives under fence {fence} and is done", done
        if now.left.failures and key.startswith(f"{RUN}:one:"):
            left = replace(now.left, failures=now.left.failures - 1)
            failed = replace(heard, done=now.done | {(key, "failed")}, left=left)
            yield f"{key} arrives under fence {fence} and fails", failed

    def _key(self, key: str, fence: int) -> str:
        return key if self.rules.one_key_for_an_attempt else f"{key}@{fence}"

    @staticmethod
    def _with(now: State, number: int, engine: Engine | None) -> State:
        engines = tuple(engine if at == number else one for at, one in enumerate(now.engines))
        # Which of the two it is makes no difference to what may happen.
        if engines[0] is None or (engines[1] is not None and engines[1].fence < engines[0].fence):
            owner = 1 - now.owner if now.owner >= 0 else now.owner
            return replace(now, engines=engines[::-1], owner=owner)
        return replace(now, engines=engines)

    def broken(self, before: State, now: State) -> str:
        """Which promise a move broke; empty where it kept them all."""
        if trouble := self.logs.trouble(now.log):
            return f"The log cannot be read any more: {trouble}"
        asked = self.logs.flying(before.log)
        attempts = [key.split("@")[0] for key in now.effects]
        if len(set(attempts)) < len(attempts):
            return "Something was done twice."
        if len(now.effects) > len(before.effects) and attempts[-1] not in asked:
            return f"{attempts[-1]} was done and the log does not ask for it."
        return ""


@contextmanager
def three_steps() -> Iterator[None]:
    """Runs are of these steps while it lasts."""
    graph = StepGraph(STEPS)
    with (
        mock.patch("maestoso.core.runs.state.compile_run", lambda inputs: graph),
        mock.patch(
            "maestoso.core.runs.decide._outcome",
            lambda state: "aborted" if state.aborted_because else "passed",
        ),
    ):
        yield


def explore(bounds: Bounds | None = None, rules: Rules | None = None) -> tuple[int, int, set[str]]:
    """Visit every state: how many there are, of how many logs, and with which outcomes runs end."""
    machine = OneRun(bounds or Bounds(), rules or Rules())
    with three_steps():
        found = explored(machine)
    outcomes = {str(machine.logs.events[end.log][-1].data["outcome"]) for end in found.ends}
    return found.states, len(machine.logs.events), outcomes
