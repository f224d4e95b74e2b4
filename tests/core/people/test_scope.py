"""What lies within reach of a role that is given for some sites or plans."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.people.scope import EVERYTHING, Facts, GroupFacts, PlanFacts, Reach, Scope, reach_of

FACTS = Facts(
    plans=(
        PlanFacts(code="A", tags=("tier-1",), source="HAR", target="HIL", workloads=frozenset({"a1", "a2"})),
        PlanFacts(code="B", tags=(), source="HIL", target="NOR", workloads=frozenset({"b1"})),
        PlanFacts(code="ALL", tags=(), source="HAR", target="HIL",
                  workloads=frozenset({"a1", "a2", "c1"}), parts=("A", "C")),
        PlanFacts(code="C", tags=("tier-1", "till"), source="HAR", target="NOR", workloads=frozenset({"c1"})),
    ),
    groups=(
        GroupFacts(code="ga", source="HAR", target="HIL", members=frozenset({"a1", "beside"})),
        GroupFacts(code="gb", source="HIL", target="NOR", members=frozenset({"b1"})),
    ),
    workloads={"a1": "HAR", "a2": "HAR", "beside": "HAR", "b1": "HIL", "c1": "HAR", "alone": "NOR"},
)  # fmt: skip


class WithinReach(unittest.TestCase):
    def test_a_plan_has_its_workloads_with_whatever_is_copied_with_them(self) -> None:
        reach = reach_of([Scope(plans=("A",))], FACTS)
        self.assertEqual((reach.plans, reach.groups), ({"A"}, {"ga"}))
        self.assertEqual(reach.workloads, {"a1", "a2", "beside"})
        self.assertEqual((reach.sites, reach.own_sites), ({"HAR", "HIL"}, frozenset()))
        self.assertTrue(reach.has_way("HIL", "HAR"))
        self.assertFalse(reach.has_way("HIL", "NOR"))

    def test_a_plan_has_its_parts(self) -> None:
        self.assertEqual(reach_of([Scope(plans=("ALL",))], FACTS).plans, {"ALL", "A", "C"})

    def test_a_site_has_what_is_there_and_what_goes_from_or_to_it(self) -> None:
        reach = reach_of([Scope(sites=("NOR",))], FACTS)
        self.assertEqual((reach.plans, reach.groups), ({"B", "C"}, {"gb"}))
        self.assertEqual(reach.workloads, {"alone", "b1", "c1"})
        self.assertTrue(reach.has_run("RETIRED", "HIL", "NOR"))
        self.assertFalse(reach.has_run("RETIRED", "HAR", "HIL"))

    def test_tags_are_those_of_plans(self) -> None:
        self.assertEqual(reach_of([Scope(tags=("tier-1",))], FACTS).plans, {"A", "C"})

    def test_nothing_in_particular_is_everything(self) -> None:
        self.assertEqual(reach_of([Scope(plans=("A",)), Scope()], FACTS), EVERYTHING)
        self.assertTrue(EVERYTHING.has("plan", "whatever"))

    def test_no_scope_reaches_nothing_and_unknown_plans_are_none(self) -> None:
        self.assertEqual(reach_of([], FACTS), Reach())
        self.assertEqual(reach_of([Scope(plans=("GONE",))], FACTS), Reach())

    @given(
        st.lists(st.sampled_from(("A", "B", "C", "ALL")), max_size=3),
        st.lists(st.sampled_from(("HAR", "NOR")), max_size=2),
    )
    def test_scopes_together_reach_what_each_of_them_reaches(
        self, plans: list[str], sites: list[str]
    ) -> None:
        scopes = [Scope(plans=(code,)) for code in plans] + [Scope(sites=(code,)) for code in sites]
        together = reach_of(scopes, FACTS)
        for scope in scopes:
            alone = reach_of([scope], FACTS)
            self.assertLessEqual(alone.plans, together.plans)
            self.assertLessEqual(alone.groups, together.groups)
            self.assertLessEqual(alone.workloads, together.workloads)
            self.assertLessEqual(alone.sites, together.sites)

    def test_it_is_said_in_words(self) -> None:
        self.assertEqual(Scope().words(), "")
        self.assertEqual(Scope(plans=("A",)).words(), "for the plan A")
        said = Scope(sites=("HIL", "NOR"), tags=("tier-1",)).words()
        self.assertEqual(said, "for the sites HIL and NOR, and plans tagged tier-1")
