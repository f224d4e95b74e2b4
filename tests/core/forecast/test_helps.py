"""What would help: every candidate is forecast anew, and only what saves something is offered."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.forecast.helps import Help, helps
from maestoso.core.model.estate import SiteLimits
from maestoso.core.model.plan import Member, Plan
from maestoso.core.planning.isolated_test import compile_test
from maestoso.core.readiness.assess import Assessment, Options, assess
from tests import worlds


def judged(plan: Plan, limits: SiteLimits | None = None) -> Assessment:
    """A plan of the little world, forecast."""
    ctx = worlds.context(plan=plan)
    return assess(ctx, Options(points={"shop": worlds.POINT}), "t1", {}, samples=100, limits=limits)


class Helping(unittest.TestCase):
    """Delays, dependencies, openings, and places at the site."""

    def offered(self, plan: Plan, limits: SiteLimits | None = None, most: int = 5) -> tuple[Help, ...]:
        now = judged(plan, limits)
        if now.inputs is None or now.forecast is None:
            raise AssertionError(now.findings)
        return helps(plan, now.inputs, now.forecast, compile_test, most=most, samples=100)

    def test_a_long_delay_on_the_critical_path_is_named_with_what_it_costs(self) -> None:
        plan = worlds.plan((Member(workload="db", delay_s=600), Member(workload="queue")))
        first = self.offered(plan)[0]
        self.assertEqual(first.label, "No boot delay for db (now 600 s)")
        # Without it, the machine beside it decides.
        self.assertAlmostEqual(first.saves_s, 600.0, delta=30.0)
        self.assertEqual(first.plan and first.plan.waves[0].members[0].delay_s, 0)
        self.assertEqual(plan.waves[0].members[0].delay_s, 600)

    def test_what_it_saves_is_what_a_forecast_of_the_changed_plan_says(self) -> None:
        plan = worlds.plan((Member(workload="db", delay_s=300), Member(workload="queue")))
        now, first = judged(plan).forecast, self.offered(plan)[0]
        if now is None or first.plan is None:
            raise AssertionError("there is a forecast")
        then = judged(first.plan).forecast
        if then is None:
            raise AssertionError("there is a forecast")
        self.assertAlmostEqual(first.saves_s, now.p50_s - then.p50_s, delta=5.0)
        self.assertAlmostEqual(first.p80_s, then.p80_s, delta=5.0)

    def test_a_dependency_on_the_path_and_an_opening_are_candidates(self) -> None:
        labels = [one.label for one in self.offered(worlds.plan())]
        self.assertTrue(
            any("opens when the wave before it is powered on" in label for label in labels), labels
        )
        chained = worlds.plan((Member(workload="db"), Member(workload="queue", depends_on=("db",))))
        labels = [one.label for one in self.offered(chained)]
        self.assertIn("queue no longer waits for db", labels)

    def test_one_more_place_helps_where_places_are_waited_for_and_not_elsewhere(self) -> None:
        plan = worlds.plan(tuple(Member(workload=name) for name in worlds.NAMES))
        tight = self.offered(plan, SiteLimits(power=8, copies=8, clones=1))
        place = next(one for one in tight if "clones at once" in one.label)
        self.assertEqual(place.label, "2 clones at once at B instead of 1")
        self.assertIsNone(place.plan)
        self.assertEqual(place.limits.clones, 2)
        wide = self.offered(plan, SiteLimits(power=8, copies=8, clones=8))
        self.assertFalse(any("at once at B" in one.label for one in wide))

    def test_the_best_comes_first_and_no_more_than_are_asked_for(self) -> None:
        plan = worlds.plan(
            (Member(workload="db", delay_s=120),),
            (Member(workload="app", delay_s=400),),
            (Member(workload="web"),),
        )
        saved = [one.saves_s for one in self.offered(plan)]
        self.assertEqual(saved, sorted(saved, reverse=True))
        self.assertEqual(len(self.offered(plan, most=1)), 1)

    def test_what_is_inside_a_part_is_not_changed_from_here(self) -> None:
        plan = worlds.plan((Member(workload="db", delay_s=600),), (Member(workload="web"),))
        now = judged(plan)
        if now.inputs is None or now.forecast is None:
            raise AssertionError(now.findings)
        own = replace(plan, waves=plan.waves[1:])
        labels = [one.label for one in helps(own, now.inputs, now.forecast, compile_test, samples=50)]
        self.assertFalse(any("db" in label for label in labels), labels)


if __name__ == "__main__":
    unittest.main()
