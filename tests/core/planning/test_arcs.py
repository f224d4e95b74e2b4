"""Levels and longest paths against the plainest way to find them."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.planning.arcs import Arcs, Levels, arcs_of

Drawn = tuple[list[list[int]], list[float], list[list[float]]]


@st.composite
def drawings(draw: st.DrawFn) -> Drawn:
    """What each node waits for (only earlier ones), how long it takes, the lag along each arc."""
    count = draw(st.integers(1, 18))
    preds = [
        draw(st.lists(st.sampled_from(range(at)), unique=True, max_size=4)) if at else []
        for at in range(count)
    ]
    seconds = st.integers(0, 50).map(float)
    return preds, [draw(seconds) for _ in preds], [[draw(seconds) for _ in its] for its in preds]


def arcs(preds: list[list[int]]) -> Arcs:
    """As flat arrays."""
    return arcs_of([len(its) for its in preds], (pred for its in preds for pred in its))


def queued(preds: list[list[int]]) -> list[int]:
    """Kahn's algorithm with a queue, in loops."""
    waiting = [len(its) for its in preds]
    order = [at for at, count in enumerate(waiting) if not count]
    for at in order:
        for succ, its in enumerate(preds):
            if at in its:
                waiting[succ] -= 1
                if not waiting[succ]:
                    order.append(succ)
    return order


class Order(unittest.TestCase):
    """Who can go first."""

    @given(drawings())
    def test_the_order_is_that_of_a_queue(self, drawn: Drawn) -> None:
        preds, _, _ = drawn
        found = [at for level in arcs(preds).levels() for at in level.tolist()]
        self.assertEqual(found, queued(preds))

    @given(drawings())
    def test_a_level_is_the_number_of_nodes_on_the_longest_way(self, drawn: Drawn) -> None:
        preds, _, _ = drawn
        depth: list[int] = []
        for its in preds:
            depth.append(max((depth[pred] + 1 for pred in its), default=0))
        for number, level in enumerate(arcs(preds).levels()):
            self.assertEqual({depth[at] for at in level.tolist()}, {number})

    def test_who_is_on_a_cycle_or_behind_one_is_on_no_level(self) -> None:
        self.assertEqual([level.tolist() for level in arcs([[], [0, 2], [1], [2], [0]]).levels()], [[0], [4]])

    @given(drawings())
    def test_turning_twice_gives_the_same_arcs(self, drawn: Drawn) -> None:
        made = arcs(drawn[0])
        again = made.turned().turned()
        self.assertEqual(again.first.tolist(), made.first.tolist())
        for at in range(len(made)):
            self.assertEqual(again.pred[again.among(np.array([at]))].tolist(), sorted(drawn[0][at]))


class Paths(unittest.TestCase):
    """How long it takes to a node, and from it."""

    @given(drawings())
    def test_heads_and_tails_are_those_of_loops(self, drawn: Drawn) -> None:
        preds, durations, lags = drawn
        made = arcs(preds)
        levels = made.levels()
        order = np.concatenate(levels)
        bounds = tuple(np.cumsum([0, *map(len, levels)]).tolist())
        flat = np.array([lag for its in lags for lag in its])
        levelled = Levels(made.picked(order), bounds, flat[made.among(order)] if len(flat) else flat)
        taken = np.array(durations)[order]
        head = [0.0] * len(preds)
        for at, its in enumerate(preds):
            reached = (head[pred] + durations[pred] + lag for pred, lag in zip(its, lags[at], strict=True))
            head[at] = max(reached, default=0.0)
        tail = list(durations)
        for at in range(len(preds) - 1, -1, -1):
            for pred, lag in zip(preds[at], lags[at], strict=True):
                tail[pred] = max(tail[pred], durations[pred] + lag + tail[at])
        self.assertEqual(levelled.heads(taken).tolist(), [head[at] for at in order.tolist()])
        self.assertEqual(levelled.tails(taken).tolist(), [tail[at] for at in order.tolist()])


if __name__ == "__main__":
    unittest.main()
