"""Going through what a machine of many hands can come to: every state within bounds, or one way by chance.

A machine says what can happen next in a state, and which promise a move broke. Messages are never taken off a line,
so each may come late, twice or never; time stands still, and what is too late is something that happens.
"""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Generic, Protocol, TypeVar

S = TypeVar("S")
LONGEST_WAY = 1000


class Broken(AssertionError):
    """A promise was broken; the message says which, and how it came to it."""


class Machine(Protocol[S]):
    """What can happen, from ``first`` on; states are compared by value."""

    first: S

    def moves(self, now: S) -> Iterator[tuple[str, S]]:
        """All that can happen next, in words, with what is then."""
        ...

    def broken(self, before: S, now: S) -> str:
        """Which promise a move broke; empty where it kept them all."""
        ...

    def over(self, now: S) -> bool:
        """Whether it has come to its end."""
        ...

    def may_rest(self, now: S) -> bool:
        """Whether the bounds keep it from its end, and not the design."""
        ...


@dataclass(frozen=True)
class Explored(Generic[S]):
    """Every state, and those in which it was over."""

    states: int
    ends: tuple[S, ...]


def explored(machine: Machine[S]) -> Explored[S]:
    """Visit every state. Raises Broken for a promise that is not kept, or an end that cannot be reached."""
    came_from: dict[S, tuple[S, str] | None] = {machine.first: None}
    leads_to: dict[S, list[S]] = {}
    ends, queue = [], deque([machine.first])
    while queue:
        now = queue.popleft()
        if machine.over(now):
            ends.append(now)
        for what, then in machine.moves(now):
            leads_to.setdefault(then, []).append(now)
            if then not in came_from:
                came_from[then] = (now, what)
                queue.append(then)
            if wrong := machine.broken(now, then):
                raise Broken(f"{wrong}\n{_way(came_from, now)}  {what}")
    reached, queue = set(ends), deque(ends)
    while queue:
        for before in leads_to.get(queue.popleft(), ()):
            if before not in reached:
                reached.add(before)
                queue.append(before)
    for state in came_from:
        if state not in reached and not machine.may_rest(state):
            raise Broken(f"It cannot come to its end any more.\n{_way(came_from, state)}")
    return Explored(states=len(came_from), ends=tuple(ends))


def wandered(machine: Machine[S], seed: str) -> int:
    """One way through it by the chance of ``seed``; how many moves it had. Raises Broken."""
    chance, now, way = random.Random(seed), machine.first, []
    for count in range(LONGEST_WAY):
        moves = list(machine.moves(now))
        if not moves:
            if not machine.over(now) and not machine.may_rest(now):
                raise Broken(f"It cannot come to its end any more.\n{''.join(way)}")
            return count
        what, then = chance.choice(moves)
        way.append(f"  {what}\n")
        if wrong := machine.broken(now, then):
            raise Broken(f"{wrong}\n{''.join(way)}")
        now = then
    return LONGEST_WAY


def _way(came_from: dict[S, tuple[S, str] | None], state: S) -> str:
    """How it came to this, move by move."""
    moves = []
    while (step := came_from[state]) is not None:
        state, what = step
        moves.append(f"  {what}\n")
    return "".join(reversed(moves))
