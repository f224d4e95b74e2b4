"""Steps and the graph they make."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from maestoso.core.errors import CycleFound
from maestoso.core.model.plan import OnFailure

Slot = Literal["power", "copies", "clones"]
Phase = Literal["prepare", "close-down", "hand-over", "bring-up", "judge", "cleanup", "commit", "roll-back"]
TO_READY: frozenset[Phase] = frozenset({"prepare", "close-down", "hand-over", "bring-up"})
"""Phases that count for the RTO: up to the last required check."""
TAKES_BACK: frozenset[Phase] = frozenset({"cleanup", "roll-back"})
"""Phases that take back what the others did: an abort leaves them to be done."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One thing a run does.

    ``after`` are steps that must be resolved first. ``delay_s`` machine seconds must pass since the last of
    ``delay_from`` (a part of ``after``) was resolved: the boot delay counts from what a member waits for,
    not from the preparation of its copy. ``needs`` are those without which this step makes no sense: if one
    of them is skipped, so is this. ``undoes`` are steps that this one takes back; if none of them was ever
    asked for, there is nothing to do. ``answers`` are steps whose failure a person must know of here: if all
    of them are done, there is nothing to ask. A step that is not over ``limit_s`` seconds by the clock on the
    wall after it was asked for has failed (0: it is waited for). A step without ``site`` is done by the
    engine or by a person.
    """

    id: str
    verb: str
    subject: str
    phase: Phase
    title: str
    site: str | None = None
    workload: str | None = None
    wave: int | None = None
    after: tuple[str, ...] = ()
    delay_s: float = 0.0
    delay_from: tuple[str, ...] = ()
    needs: tuple[str, ...] = ()
    undoes: tuple[str, ...] = ()
    answers: tuple[str, ...] = ()
    limit_s: float = 0.0
    slot: Slot | None = None
    on_failure: OnFailure = "ask"
    skippable: bool = True
    person: bool = False
    args: Mapping[str, Any] = field(default_factory=dict)


class StepGraph:
    """Steps in an order in which every step comes behind all it waits for.

    ``preds[i]`` and ``succs[i]`` are positions in ``steps``. Raises CycleFound, naming the cycle in order.
    """

    def __init__(self, steps: Iterable[Step]) -> None:
        listed = list(steps)
        index = {step.id: at for at, step in enumerate(listed)}
        preds = [[index[name] for name in step.after] for step in listed]
        order = _in_order(preds)
        if len(order) < len(listed):
            raise _cycle(order, [step.id for step in listed], preds)
        place = [0] * len(listed)
        for at, position in enumerate(order):
            place[position] = at
        self._lay([listed[position] for position in order], [preds[position] for position in order], place)

    def part(self, positions: Sequence[int]) -> StepGraph:
        """The graph of some steps, in ascending order, all of whose predecessors are among them."""
        made = StepGraph.__new__(StepGraph)
        place = [0] * len(self)
        for at, position in enumerate(positions):
            place[position] = at
        made._lay([self.steps[one] for one in positions], [self.preds[one] for one in positions], place)
        return made

    def _lay(self, steps: Sequence[Step], preds: Sequence[Sequence[int]], place: Sequence[int]) -> None:
        """``preds`` are in an older numbering; ``place`` gives the new one."""
        self.steps: tuple[Step, ...] = tuple(steps)
        self.preds: tuple[tuple[int, ...], ...] = tuple(tuple([place[one] for one in its]) for its in preds)
        self.index: dict[str, int] = {step.id: position for position, step in enumerate(self.steps)}
        succs: list[list[int]] = [[] for _ in self.steps]
        for position, its in enumerate(self.preds):
            for pred in its:
                succs[pred].append(position)
        self.succs: tuple[tuple[int, ...], ...] = tuple(map(tuple, succs))

    @cached_property
    def waits(self) -> tuple[tuple[tuple[int, float], ...], ...]:
        """By position: each predecessor, and how many seconds must pass since it was resolved."""
        found = []
        for step, preds in zip(self.steps, self.preds, strict=True):
            if not step.delay_s:
                found.append(tuple((pred, 0.0) for pred in preds))
                continue
            behind = {self.index[name] for name in step.delay_from}
            found.append(tuple((pred, step.delay_s if pred in behind else 0.0) for pred in preds))
        return tuple(found)

    def __len__(self) -> int:
        return len(self.steps)

    def __contains__(self, step: str) -> bool:
        return step in self.index

    def __getitem__(self, step: str) -> Step:
        return self.steps[self.index[step]]


def topological_order(names: Sequence[str], after: Mapping[str, Iterable[str]]) -> list[str]:
    """Names so that each stands behind all it waits for, ties in the given order.

    Raises CycleFound with one cycle, each name waiting for the next.
    """
    index = {name: at for at, name in enumerate(names)}
    preds = [[index[pred] for pred in after[name]] for name in names]
    order = _in_order(preds)
    if len(order) < len(names):
        raise _cycle(order, names, preds)
    return [names[at] for at in order]


def _in_order(preds: Sequence[Sequence[int]]) -> list[int]:
    """Positions so that each stands behind its predecessors (Kahn 1962); those on and behind a cycle lack.

    In whole numbers and flat lists, because this is what most of the time of a large plan would go into.
    """
    waiting = [len(its) for its in preds]
    behind: list[list[int]] = [[] for _ in preds]
    for at, its in enumerate(preds):
        for pred in its:
            behind[pred].append(at)
    order = [at for at, count in enumerate(waiting) if not count]
    for at in order:  # it grows while it is walked through
        for succ in behind[at]:
            waiting[succ] -= 1
            if not waiting[succ]:
                order.append(succ)
    return order


def _cycle(order: Sequence[int], names: Sequence[str], preds: Sequence[Sequence[int]]) -> CycleFound:
    """Walk backwards among those that never became free until one repeats."""
    done = set(order)
    stuck = {names[at]: at for at in range(len(names)) if at not in done}
    name = min(stuck)
    path: list[str] = []
    while name not in path:
        path.append(name)
        name = min(names[pred] for pred in preds[stuck[name]] if names[pred] in stuck)
    return CycleFound(tuple(path[path.index(name) :]))
