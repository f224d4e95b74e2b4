"""Laws of the schedule."""

from __future__ import annotations

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.scheduling.list_schedule import (
    Pinned,
    capacity,
    critical_path,
    earliest,
    list_schedule,
    lower_bound,
    tails,
)


@st.composite
def graphs(draw: st.DrawFn) -> tuple[StepGraph, list[float], SiteLimits]:
    """A small graph with slots and delays, durations, and limits."""
    count = draw(st.integers(1, 16))
    steps = []
    for index in range(count):
        before = [f"s{n}" for n in range(index)]
        after = tuple(draw(st.lists(st.sampled_from(before), unique=True, max_size=3))) if before else ()
        steps.append(
            Step(
                id=f"s{index}",
                verb="v",
                subject="x",
                phase="prepare",
                title="x",
                site="B",
                after=after,
                delay_s=float(draw(st.integers(0, 20))),
                delay_from=after[:1],
                slot=draw(st.sampled_from((None, "power", "copies", "clones"))),
            )
        )
    durations = [float(draw(st.integers(0, 50))) for _ in range(count)]
    limits = SiteLimits(power=draw(st.integers(1, 3)), copies=draw(st.integers(1, 2)), clones=1)
    graph = StepGraph(steps)
    return graph, durations, limits


Drawn = tuple[StepGraph, list[float], SiteLimits]


class Laws(unittest.TestCase):
    """What must hold for every graph."""

    @given(graphs())
    @settings(max_examples=200)
    def test_no_step_starts_before_what_it_waits_for_and_its_delay(self, drawn: Drawn) -> None:
        graph, durations, limits = drawn
        made = list_schedule(graph, durations, limits)
        for at in range(len(graph)):
            self.assertGreaterEqual(made.start_s[at] + 1e-9, earliest(graph, at, made.finish_s))
            self.assertAlmostEqual(made.finish_s[at] - made.start_s[at], durations[at])

    @given(graphs())
    @settings(max_examples=200)
    def test_no_more_steps_of_a_class_at_once_than_there_are_slots(self, drawn: Drawn) -> None:
        graph, durations, limits = drawn
        made = list_schedule(graph, durations, limits)
        for slot in ("power", "copies", "clones"):
            spans = [
                (made.start_s[at], made.finish_s[at])
                for at, step in enumerate(graph.steps)
                if step.slot == slot and durations[at] > 0
            ]
            for start, _ in spans:
                at_once = sum(1 for other in spans if other[0] <= start < other[1])
                self.assertLessEqual(at_once, capacity(limits, slot))

    @given(graphs())
    @settings(max_examples=200)
    def test_the_bound_is_never_above_the_makespan(self, drawn: Drawn) -> None:
        graph, durations, limits = drawn
        made = list_schedule(graph, durations, limits)
        self.assertLessEqual(lower_bound(graph, durations, limits), made.makespan_s + 1e-6)
        self.assertEqual(len(made.order), len(graph))

    @given(graphs(), st.integers(0, 60))
    def test_from_the_middle_on_what_happened_stays(self, drawn: Drawn, now: int) -> None:
        graph, durations, limits = drawn
        whole = list_schedule(graph, durations, limits)
        pinned = {
            at: Pinned(
                start_s=whole.start_s[at], finish_s=whole.finish_s[at] if whole.finish_s[at] <= now else None
            )
            for at in range(len(graph))
            if whole.start_s[at] < now
        }
        rest = list_schedule(graph, durations, limits, pinned=pinned, now_s=float(now))
        for at, happened in pinned.items():
            self.assertEqual(rest.start_s[at], happened.start_s)
        for at in range(len(graph)):
            if at not in pinned:
                self.assertGreaterEqual(rest.start_s[at], now)
        self.assertEqual(len(rest.order), len(graph))

    @given(graphs())
    def test_the_critical_path_ends_last_and_each_step_holds_up_the_next(self, drawn: Drawn) -> None:
        graph, durations, limits = drawn
        made = list_schedule(graph, durations, limits)
        path = [graph.index[name] for name in critical_path(graph, made)]
        self.assertAlmostEqual(made.finish_s[path[-1]], made.makespan_s)
        for before, after in zip(path, path[1:], strict=False):
            self.assertLessEqual(made.finish_s[before], made.start_s[after] + 1e-6)


class Examples(unittest.TestCase):
    """Numbers worked out by hand."""

    def test_the_longest_remaining_path_takes_the_only_slot_first(self) -> None:
        def step(name: str, *after: str, slot: str | None = None) -> Step:
            return Step(
                id=name,
                verb="v",
                subject="x",
                phase="prepare",
                title="x",
                after=after,
                slot=slot,  # type: ignore[arg-type]
            )

        graph = StepGraph([step("short", slot="power"), step("long", slot="power"), step("end", "long")])
        durations = [{"short": 5.0, "long": 5.0, "end": 30.0}[s.id] for s in graph.steps]
        made = list_schedule(graph, durations, SiteLimits(power=1))
        self.assertEqual(made.start_s[graph.index["long"]], 0.0)
        self.assertEqual(made.makespan_s, 35.0)
        self.assertEqual(tails(graph, durations)[graph.index["long"]], 35.0)
        self.assertEqual(critical_path(graph, made), ("long", "end"))

    def test_the_bound_counts_work_over_slots(self) -> None:
        steps = [
            Step(id=f"p{n}", verb="v", subject="x", phase="prepare", title="x", slot="power")
            for n in range(6)
        ]
        self.assertEqual(lower_bound(StepGraph(steps), [10.0] * 6, SiteLimits(power=2)), 30.0)

    def test_an_empty_graph_takes_no_time(self) -> None:
        graph = StepGraph([])
        made = list_schedule(graph, [], SiteLimits())
        self.assertEqual((made.makespan_s, critical_path(graph, made)), (0.0, ()))


if __name__ == "__main__":
    unittest.main()
