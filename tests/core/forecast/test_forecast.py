"""Durations from measurement, and their spread in a forecast."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given
from scipy import stats

from maestoso.core.forecast.durations import USUAL_S, estimates, from_samples, usual
from maestoso.core.forecast.monte_carlo import forecast
from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.planning.inputs import Estimate
from maestoso.core.planning.isolated_test import compile_test
from maestoso.core.scheduling.list_schedule import list_schedule
from tests import worlds
from tests.core.scheduling.test_list_schedule import Drawn, graphs


def step(name: str, *after: str, slot: str | None = None) -> Step:
    """A step of a site."""
    return Step(
        id=name,
        verb="v",
        subject="x",
        phase="prepare",
        title="x",
        site="B",
        after=after,
        slot=slot,  # type: ignore[arg-type]
    )


class Durations(unittest.TestCase):
    """Measured where there are runs."""

    def test_nothing_measured_is_the_fallback(self) -> None:
        self.assertEqual(
            from_samples([], Estimate(median_s=9.0, sigma=0.3)), Estimate(median_s=9.0, sigma=0.3)
        )

    def test_many_samples_outweigh_the_fallback(self) -> None:
        fitted = from_samples([100.0] * 50, Estimate(median_s=9.0, sigma=0.3))
        self.assertAlmostEqual(fitted.median_s, 100.0, delta=6.0)
        self.assertEqual(fitted.sigma, 0.05)

    def test_two_samples_keep_the_fallbacks_spread(self) -> None:
        self.assertEqual(from_samples([10.0, 11.0], Estimate(median_s=9.0, sigma=0.3)).sigma, 0.3)

    def test_a_fit_finds_the_lognormal_it_was_drawn_from(self) -> None:
        drawn = np.exp(np.log(60.0) + 0.2 * np.random.default_rng(3).standard_normal(4000))
        fitted = from_samples(list(drawn), Estimate(median_s=9.0, sigma=0.5))
        self.assertAlmostEqual(fitted.median_s, 60.0, delta=1.0)
        self.assertAlmostEqual(fitted.sigma, 0.2, delta=0.01)

    def test_more_memory_boots_longer_and_people_take_no_machine_time(self) -> None:
        graph = compile_test(worlds.inputs())
        small = worlds.workload("s", 9)
        large = worlds.workload("l", 8, memory_mib=131072)
        beat = graph["await-heartbeat:db"]
        self.assertGreater(usual(beat, large).median_s, usual(beat, small).median_s)
        self.assertEqual(usual(graph["verdict"], None).median_s, 0.0)

    def test_every_verb_of_a_test_has_a_usual_duration(self) -> None:
        graph = compile_test(worlds.inputs(sync_first=True))
        self.assertEqual({s.verb for s in graph.steps if s.site} - set(USUAL_S), set())
        made = estimates(graph.steps, worlds.WORKLOADS, {"power-on:db": [3.0] * 9})
        self.assertEqual(set(made), {s.id for s in graph.steps})
        self.assertLess(made["power-on:db"].median_s, made["power-on:web"].median_s)


class MonteCarlo(unittest.TestCase):
    """The forecast agrees with what can be worked out exactly."""

    def test_without_spread_it_is_the_schedule(self) -> None:
        graph = StepGraph([step("a"), step("b", "a"), step("c", "a", slot="power")])
        fixed = {name: Estimate(median_s=10.0) for name in "abc"}
        made = forecast(graph, fixed, SiteLimits(), objective_s=20.0)
        self.assertEqual((made.p10_s, made.p50_s, made.p95_s, made.chance), (20.0, 20.0, 20.0, 1.0))
        self.assertEqual(made.criticality, (1.0, 1.0, 1.0))

    @given(graphs())
    def test_without_spread_any_graph_is_its_schedule(self, drawn: Drawn) -> None:
        graph, durations, limits = drawn
        expected = {s.id: Estimate(median_s=d) for s, d in zip(graph.steps, durations, strict=True)}
        made = forecast(graph, expected, limits, 60.0, samples=20)
        plain = list_schedule(graph, durations, limits)
        self.assertAlmostEqual(made.p50_s, plain.makespan_s, places=2)
        self.assertEqual(made.likely.finish_s, plain.finish_s)
        # What decides reaches from a step that waits for nothing to one that ends last.
        deciding = [at for at, share in enumerate(made.criticality) if share == 1.0]
        self.assertEqual(min(plain.start_s[at] for at in deciding), 0.0)
        self.assertEqual(max(plain.finish_s[at] for at in deciding), plain.makespan_s)

    def test_a_gate_behind_many_waits_for_the_last_of_them(self) -> None:
        crowd = [step(f"m{n}") for n in range(9)]
        graph = StepGraph([*crowd, step("gate", *(one.id for one in crowd)), step("end", "gate")])
        expected = {s.id: Estimate(median_s=10.0) for s in graph.steps}
        expected["m4"] = Estimate(median_s=30.0)
        made = forecast(graph, expected, SiteLimits(), 60.0, samples=50)
        self.assertAlmostEqual(made.p50_s, 50.0, places=3)
        self.assertEqual(
            {s.id for s, share in zip(graph.steps, made.criticality, strict=True) if share},
            {"m4", "gate", "end"},
        )

    def test_who_had_the_slot_before_is_critical_too(self) -> None:
        graph = StepGraph([step("long", slot="power"), step("short", slot="power"), step("aside")])
        expected = {
            "long": Estimate(median_s=30.0),
            "short": Estimate(median_s=5.0),
            "aside": Estimate(median_s=1.0),
        }
        made = forecast(graph, expected, SiteLimits(power=1), 60.0, samples=50)
        found = {s.id: share for s, share in zip(graph.steps, made.criticality, strict=True)}
        self.assertEqual(found, {"long": 1.0, "short": 1.0, "aside": 0.0})

    def test_more_slots_than_steps_are_as_good_as_no_limits(self) -> None:
        graph = StepGraph([step(f"p{n}", slot="power") for n in range(5)])
        expected = {s.id: Estimate(median_s=20.0, sigma=0.3) for s in graph.steps}
        made = [forecast(graph, expected, SiteLimits(power=count), 60.0) for count in (5, 500)]
        self.assertEqual(made[0].p80_s, made[1].p80_s)

    def test_a_single_step_has_the_quantiles_of_its_lognormal(self) -> None:
        graph = StepGraph([step("a")])
        made = forecast(graph, {"a": Estimate(median_s=60.0, sigma=0.3)}, SiteLimits(), 70.0, samples=4000)
        exact = stats.lognorm(s=0.3, scale=60.0)
        for got, share in ((made.p10_s, 0.1), (made.p50_s, 0.5), (made.p80_s, 0.8), (made.p95_s, 0.95)):
            self.assertAlmostEqual(got / exact.ppf(share), 1.0, delta=0.01)
        self.assertAlmostEqual(made.chance, exact.cdf(70.0), delta=0.01)

    def test_one_slot_makes_a_queue_of_two(self) -> None:
        graph = StepGraph([step("a", slot="power"), step("b", slot="power")])
        spread = {name: Estimate(median_s=50.0, sigma=0.2) for name in "ab"}
        wide = forecast(graph, spread, SiteLimits(power=2), 60.0)
        narrow = forecast(graph, spread, SiteLimits(power=1), 60.0)
        self.assertGreater(narrow.p50_s, 1.6 * wide.p50_s)
        self.assertEqual(narrow.criticality, (1.0, 1.0))

    def test_the_slower_branch_is_critical_more_often(self) -> None:
        graph = StepGraph([step("slow"), step("fast"), step("end", "slow", "fast")])
        spread = {
            "slow": Estimate(median_s=60.0, sigma=0.3),
            "fast": Estimate(median_s=45.0, sigma=0.3),
            "end": Estimate(median_s=5.0),
        }
        made = forecast(graph, spread, SiteLimits(), 60.0, samples=1000)
        share = dict(zip((s.id for s in graph.steps), made.criticality, strict=True))
        self.assertGreater(share["slow"], share["fast"])
        self.assertAlmostEqual(share["slow"] + share["fast"], 1.0, delta=0.01)

    def test_cleanup_and_verdict_are_no_part_of_the_recovery_time(self) -> None:
        inputs = worlds.inputs()
        graph = compile_test(inputs)
        fixed = {name: Estimate(median_s=e.median_s) for name, e in inputs.estimates.items()}
        made = forecast(graph, fixed, inputs.limits, 1800.0, samples=5)
        whole = list_schedule(graph, [fixed[s.id].median_s for s in graph.steps], inputs.limits)
        counted = {s.id for s in graph.steps if s.phase in ("prepare", "bring-up")}
        last_check = max(whole.finish_s[graph.index[name]] for name in counted)
        self.assertAlmostEqual(made.p50_s, last_check)
        self.assertLess(last_check, whole.makespan_s)
        self.assertLessEqual(set(made.critical), counted)

    def test_the_same_seed_gives_the_same_forecast(self) -> None:
        inputs = worlds.inputs()
        graph = compile_test(inputs)
        one, two = (forecast(graph, inputs.estimates, inputs.limits, 900.0, samples=60) for _ in range(2))
        self.assertEqual(one, two)

    def test_nothing_to_do_takes_no_time(self) -> None:
        made = forecast(StepGraph([]), {}, SiteLimits(), 10.0)
        self.assertEqual((made.p95_s, made.chance), (0.0, 1.0))


if __name__ == "__main__":
    unittest.main()
