"""Steps and the graph they make."""

from __future__ import annotations

import itertools
from collections.abc import Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np

from maestoso.core.errors import CycleFound
from maestoso.core.model.plan import OnFailure
from maestoso.core.planning.arcs import Arcs, Levels, Positions, arcs_of

Slot = Literal["power", "copies", "clones"]
Phase = Literal["prepare", "close-down", "hand-over", "bring-up", "judge", "cleanup", "commit", "roll-back"]
TO_READY: frozenset[Phase] = frozenset({"prepare", "close-down", "hand-over", "bring-up"})
"""Phases that count for the RTO: up to the last required check."""
TAKES_BACK: frozenset[Phase] = frozenset({"cleanup", "roll-back"})
"""Phases that take back what the others did: an abort leaves them to be done."""


# Of a large plan thousands are made after every change, and a frozen one takes five times as long to make.
@dataclass(slots=True, kw_only=True, unsafe_hash=True)
class Step:
    """One thing a run does. Nobody changes one.

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

    ``preds[i]`` and ``succs[i]`` are positions in ``steps``; ``levels`` is the same as arrays. Raises
    CycleFound, naming the cycle in order.
    """

    def __init__(self, steps: Iterable[Step]) -> None:
        listed = list(steps)
        arcs, levels = _in_levels([step.id for step in listed], [step.after for step in listed])
        order = np.concatenate([*levels, np.arange(0)])
        bounds = (0, *itertools.accumulate(map(len, levels)))
        self._lay(tuple(listed[at] for at in order.tolist()), arcs.picked(order), bounds)

    def part(self, positions: Sequence[int]) -> StepGraph:
        """The graph of some steps, in ascending order, all of whose predecessors are among them."""
        made = StepGraph.__new__(StepGraph)
        bounds = np.searchsorted(np.array(positions), self.levels.bounds)
        steps = tuple(self.steps[one] for one in positions)
        made._lay(steps, self.levels.arcs.picked(np.array(positions)), tuple(dict.fromkeys(bounds.tolist())))
        return made

    def _lay(self, steps: tuple[Step, ...], arcs: Arcs, bounds: tuple[int, ...]) -> None:
        self.steps: tuple[Step, ...] = steps
        self.index: dict[str, int] = {step.id: position for position, step in enumerate(steps)}
        lag_s = np.zeros(len(arcs.pred))
        for position, step in enumerate(steps):
            if step.delay_s:
                begin, behind = int(arcs.first[position]), set(step.delay_from)
                lag_s[begin : begin + len(step.after)] = [
                    step.delay_s * (one in behind) for one in step.after
                ]
        self.levels = Levels(arcs, bounds, lag_s)

    @cached_property
    def preds(self) -> tuple[tuple[int, ...], ...]:
        """By position: what the step waits for."""
        return _rows(self.levels.arcs)

    @cached_property
    def succs(self) -> tuple[tuple[int, ...], ...]:
        """By position: what waits for the step."""
        return _rows(self.levels.arcs.turned())

    @cached_property
    def waits(self) -> tuple[tuple[tuple[int, float], ...], ...]:
        """By position: each predecessor, and how many seconds must pass since it was resolved."""
        pairs = list(zip(self.levels.arcs.pred.tolist(), self.levels.lag_s.tolist(), strict=True))
        return tuple(
            tuple(pairs[begin:end]) for begin, end in itertools.pairwise(self.levels.arcs.first.tolist())
        )

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
    _, levels = _in_levels(names, [tuple(after[name]) for name in names])
    return [names[at] for level in levels for at in level.tolist()]


def _in_levels(names: Sequence[str], after: Sequence[Sequence[str]]) -> tuple[Arcs, list[Positions]]:
    """The arcs between what is named, and its levels. Raises CycleFound."""
    index = {name: at for at, name in enumerate(names)}
    arcs = arcs_of([len(its) for its in after], (index[name] for its in after for name in its))
    levels = arcs.levels()
    if sum(map(len, levels)) < len(names):
        raise _cycle({at for level in levels for at in level.tolist()}, names, _rows(arcs))
    return arcs, levels


def _rows(arcs: Arcs) -> tuple[tuple[int, ...], ...]:
    flat = arcs.pred.tolist()
    return tuple(tuple(flat[begin:end]) for begin, end in itertools.pairwise(arcs.first.tolist()))


def _cycle(done: Container[int], names: Sequence[str], preds: Sequence[Sequence[int]]) -> CycleFound:
    """Walk backwards among those that never became free until one repeats."""
    stuck = {names[at]: at for at in range(len(names)) if at not in done}
    name = min(stuck)
    path: list[str] = []
    while name not in path:
        path.append(name)
        name = min(names[pred] for pred in preds[stuck[name]] if names[pred] in stuck)
    return CycleFound(tuple(path[path.index(name) :]))
