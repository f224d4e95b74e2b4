"""Run time: what the work of a run took by the sites' own clocks, and what Maestoso itself added to it.

A practice site works at a pace. Were the time between its answers and what follows from them multiplied by
that as well, every tenth of a second of Maestoso's own would stand as seconds in the evidence. So a step
ends when it began plus what its site says that it took; only what passes beside that, between its end and
our knowing of it or between its being possible and being asked for, counts as it is on the wall. At pace 1
run time is wall time; at any other pace it is the same run time.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import Slot, StepGraph
from maestoso.core.scheduling.list_schedule import capacity, earliest


@dataclass(frozen=True, slots=True, order=True)
class Freed:
    """A slot of a site that somebody gave back: in run time, without our own time, and on the wall."""

    at_s: float
    pure_s: float
    at: datetime


@dataclass(slots=True)
class Clocked:
    """When a step may begin: in run time, without our own time, and on the wall."""

    ready_s: float = 0.0
    pure_ready_s: float = 0.0
    ready_at: datetime | None = None
    began_s: float = 0.0
    pure_began_s: float = 0.0


@dataclass(slots=True)
class RunTime:
    """Beside the state of a run; what asks leaves it as it is, what is told changes it."""

    graph: StepGraph
    limits: SiteLimits
    pace: float
    steps: list[Clocked] = field(default_factory=list)
    pure_settled_s: list[float] = field(default_factory=list)
    freed: dict[Slot, list[Freed]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.steps = [Clocked() for _ in self.graph.steps]
        self.pure_settled_s = [0.0] * len(self.graph)
        self.freed = {"power": [], "copies": [], "clones": []}

    # --- what asks ---

    def begins(self, position: int, taken: Callable[[Slot], int], now: datetime) -> float:
        """The run time of a step that begins at ``now``."""
        one, slot = self.steps[position], self._slot(position, taken)
        ready_s, ready_at = one.ready_s, one.ready_at or now
        if slot is not None:
            ready_s, ready_at = max(ready_s, slot.at_s), max(ready_at, slot.at)
        return ready_s + max((now - ready_at).total_seconds(), 0.0)

    def ends(self, position: int, asked_at: datetime, took_s: float, before_s: float, now: datetime) -> float:
        """The run time of a step that a site finished, and of whose end we know at ``now``.

        What it waited for may have been under way ``before_s`` already: that was from when it was ready.
        """
        one, own = self.steps[position], (now - asked_at).total_seconds() - took_s / self.pace
        over_s = max(one.began_s, one.ready_s + before_s + took_s) if before_s else one.began_s + took_s
        return over_s + max(own, 0.0)

    def pure_s(self, position: int) -> float:
        """When a step began, had Maestoso itself taken no time at all."""
        return self.steps[position].pure_began_s

    # --- what is told ---

    def opened(self, position: int, eligible_s: float, now_s: float, at: datetime) -> float:
        """All that a step waits for is resolved since ``now_s``; gives the run time when it may begin."""
        one = self.steps[position]
        one.ready_s = max(eligible_s, now_s)
        one.pure_ready_s = earliest(self.graph, position, self.pure_settled_s)
        one.ready_at = at + timedelta(seconds=(one.ready_s - now_s) / self.pace)
        return one.ready_s

    def opened_again(self, position: int, now_s: float, at: datetime) -> None:
        """A step is to be done once more, since a person said so."""
        one = self.steps[position]
        one.pure_ready_s = max(one.pure_began_s + now_s - one.began_s, 0.0)
        one.ready_s, one.ready_at = now_s, at

    def begun(self, position: int, taken: Callable[[Slot], int], at_s: float) -> None:
        """A step was asked for, or a person was."""
        one, slot = self.steps[position], self._slot(position, taken)
        one.began_s, one.pure_began_s = at_s, one.pure_ready_s
        if slot is not None:
            heapq.heappop(self.freed[self._kind(position)])
            one.pure_began_s = max(one.pure_ready_s, slot.pure_s)

    def settled(self, position: int, took_s: float | None, at_s: float) -> None:
        """A step came to its end: what it took in all, or None where that is what passed in run time."""
        one = self.steps[position]
        took = max(at_s - one.began_s, 0.0) if took_s is None else took_s
        self.pure_settled_s[position] = one.pure_began_s + took

    def passed_over(self, position: int) -> None:
        """A step came to its end without having begun."""
        one = self.steps[position]
        one.began_s, one.pure_began_s = one.ready_s, one.pure_ready_s
        self.pure_settled_s[position] = one.pure_ready_s

    def landed(self, position: int, at_s: float, at: datetime) -> None:
        """The step is no longer with its site: its slot is free."""
        if self.graph.steps[position].slot:
            freed = Freed(at_s, self.pure_settled_s[position], at)
            heapq.heappush(self.freed[self._kind(position)], freed)

    # --- inside ---

    def _kind(self, position: int) -> Slot:
        slot = self.graph.steps[position].slot
        if slot is None:
            raise AssertionError("a step without a slot")
        return slot

    def _slot(self, position: int, taken: Callable[[Slot], int]) -> Freed | None:
        """The slot that a step would take over from another; None while some were never used."""
        kind = self.graph.steps[position].slot
        if kind is None or not self.freed[kind]:
            return None
        never_used = capacity(self.limits, kind) - taken(kind) - len(self.freed[kind])
        return None if never_used > 0 else self.freed[kind][0]
