"""Steps in an order in which everything can happen."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.errors import CycleFound
from maestoso.core.planning.graph import Step, StepGraph, topological_order


@st.composite
def acyclic(draw: st.DrawFn) -> dict[str, list[str]]:
    """Names, each waiting only for names that were drawn before it."""
    count = draw(st.integers(1, 14))
    names = [f"s{index}" for index in range(count)]
    return {
        name: draw(st.lists(st.sampled_from(names[:index]), unique=True)) if index else []
        for index, name in enumerate(names)
    }


class Order(unittest.TestCase):
    """Laws of the order."""

    @given(acyclic(), st.randoms(use_true_random=False))
    def test_every_name_stands_behind_all_it_waits_for(self, after: dict[str, list[str]], chance) -> None:  # type: ignore[no-untyped-def]
        names = list(after)
        chance.shuffle(names)
        order = topological_order(names, after)
        place = {name: index for index, name in enumerate(order)}
        self.assertEqual(sorted(order), sorted(names))
        for name, preds in after.items():
            for pred in preds:
                self.assertLess(place[pred], place[name])

    @given(acyclic(), st.data())
    def test_a_cycle_is_found_and_named_in_order(
        self, after: dict[str, list[str]], data: st.DataObject
    ) -> None:
        length = data.draw(st.integers(1, min(4, len(after))))
        ring = list(after)[:length]
        for index, name in enumerate(ring):
            after[name] = [*after[name], ring[(index + 1) % length]]
        with self.assertRaises(CycleFound) as caught:
            topological_order(list(after), after)
        cycle = caught.exception.cycle
        for index, name in enumerate(cycle):
            self.assertIn(cycle[(index + 1) % len(cycle)], after[name])
        self.assertTrue(caught.exception.sentence.startswith(cycle[0]))

    def test_a_name_that_waits_for_itself_is_a_cycle(self) -> None:
        with self.assertRaises(CycleFound) as caught:
            topological_order(["a"], {"a": ["a"]})
        self.assertEqual(caught.exception.cycle, ("a",))


class Graph(unittest.TestCase):
    """Positions lead there and back."""

    def test_predecessors_and_successors_mirror_each_other(self) -> None:
        def step(name: str, *after: str) -> Step:
            return Step(id=name, verb="v", subject=name, phase="prepare", title=name, after=after)

        graph = StepGraph([step("c", "a", "b"), step("a"), step("b", "a")])
        self.assertEqual([s.id for s in graph.steps], ["a", "b", "c"])
        for at, preds in enumerate(graph.preds):
            for pred in preds:
                self.assertIn(at, graph.succs[pred])
        self.assertEqual(graph["b"].after, ("a",))
        self.assertIn("c", graph)
        self.assertNotIn("d", graph)
        self.assertEqual(len(graph), 3)


if __name__ == "__main__":
    unittest.main()
