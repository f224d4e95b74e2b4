"""What waits for what, as flat arrays: order, cycles and longest paths of a hundred thousand steps at once.

All nodes of one level, that is of one number of nodes on the longest way to them, are taken together, so the
time goes with the number of levels and not with that of nodes.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Positions = NDArray[np.int64]
Seconds = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Arcs:
    """Node i waits for ``pred[first[i]:first[i + 1]]``; shapes (nodes + 1,) and (arcs,)."""

    first: Positions
    pred: Positions

    def __len__(self) -> int:
        return len(self.first) - 1

    @property
    def counts(self) -> Positions:
        """How many each node waits for."""
        return np.diff(self.first)

    @property
    def owner(self) -> Positions:
        """The node that waits, for every arc."""
        return np.repeat(np.arange(len(self)), self.counts)

    def turned(self) -> Arcs:
        """The same arcs seen from the other end: for every node, who waits for it, ascending."""
        # Loaded where it is used: SciPy takes a third of a second, which every process would pay.
        from scipy.sparse import csr_array

        ones = np.ones(len(self.pred), dtype=np.int8)
        columns = csr_array((ones, self.pred, self.first), shape=(len(self), len(self))).tocsc()
        return Arcs(columns.indptr.astype(np.int64), columns.indices.astype(np.int64))

    def picked(self, nodes: Positions) -> Arcs:
        """The arcs of some nodes, in the order given, with numbers as ``nodes`` counts them.

        All that they wait for must be among them.
        """
        place = np.empty(len(self), dtype=np.int64)
        place[nodes] = np.arange(len(nodes))
        first = _starts(self.counts[nodes])
        return Arcs(first, place[self.pred[self.among(nodes)]])

    def among(self, nodes: Positions) -> Positions:
        """Where the arcs of ``nodes`` stand, one node after the other."""
        begin = self.first[nodes]
        counts = self.first[nodes + 1] - begin
        ends = np.cumsum(counts)
        found: Positions = np.repeat(begin - ends + counts, counts)
        found += np.arange(len(found))
        return found

    def levels(self) -> list[Positions]:
        """Nodes level by level; those on a cycle and behind one lack.

        Inside a level they stand as a queue would free them (Kahn 1962): by the last that they waited for.
        """
        behind, waiting = self.turned(), self.counts
        seat = np.empty(len(self), dtype=np.int64)
        level, found = np.flatnonzero(waiting == 0), []
        while len(level):
            found.append(level)
            reached = behind.pred[behind.among(level)]
            np.subtract.at(waiting, reached, 1)
            freed = reached[waiting[reached] == 0]
            # Somebody who waited for several of this level stands here several times: the last one counts.
            numbers = np.arange(len(freed))
            seat[freed] = numbers
            level = freed[seat[freed] == numbers]
        return found


def arcs_of(counts: Sequence[int], pred: Iterator[int]) -> Arcs:
    """From how many each node waits for, and all of those one after the other."""
    return Arcs(_starts(np.array(counts, dtype=np.int64)), np.fromiter(pred, dtype=np.int64))


def _starts(counts: Positions) -> Positions:
    return np.concatenate((np.zeros(1, dtype=np.int64), np.cumsum(counts)))


@dataclass(frozen=True, slots=True)
class Levels:
    """Arcs whose nodes are numbered level by level, and the seconds that must pass along each arc.

    ``bounds`` is where each level begins, and where the last one ends; ``lag_s`` has the shape of the arcs.
    """

    arcs: Arcs
    bounds: tuple[int, ...]
    lag_s: Seconds

    def heads(self, durations_s: Seconds) -> Seconds:
        """When each node can begin at the soonest."""
        head = np.zeros(len(self.arcs))
        first, pred = self.arcs.first, self.arcs.pred
        # Nobody in the first level waits for anything, and everybody behind it for somebody.
        for begin, end in zip(self.bounds[1:], self.bounds[2:], strict=False):
            arcs = slice(first[begin], first[end])
            ready = head[pred[arcs]] + durations_s[pred[arcs]] + self.lag_s[arcs]
            head[begin:end] = np.maximum.reduceat(ready, first[begin:end] - first[begin])
        return head

    def tails(self, durations_s: Seconds) -> Seconds:
        """The longest path from the start of each node to the end of all."""
        tail = np.zeros(len(self.arcs))
        first, pred, owner = self.arcs.first, self.arcs.pred, self.arcs.owner
        for begin, end in reversed(list(zip(self.bounds, self.bounds[1:], strict=False))):
            tail[begin:end] += durations_s[begin:end]
            arcs = slice(first[begin], first[end])
            np.maximum.at(tail, pred[arcs], tail[owner[arcs]] + self.lag_s[arcs])
        return tail
