"""Plans made of plans."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.cue import Cue, Notify
from maestoso.core.model.plan import Member, Part, Plan, Wave
from maestoso.core.planning.parts import expand_parts
from tests import worlds


def plan(code: str, *names: str, **changes: object) -> Plan:
    """A plan with one wave."""
    made = replace(worlds.plan(tuple(Member(workload=name) for name in names)), code=code, name=code.title())
    return replace(made, **changes)  # type: ignore[arg-type]


CORE, SHOP = plan("CORE", "db", "queue"), plan("SHOPS", "queue", "app")
KNOWN = {"CORE": CORE, "SHOPS": SHOP}


class Parts(unittest.TestCase):
    """Their waves come first, in order."""

    def test_without_parts_a_plan_is_itself(self) -> None:
        self.assertIs(expand_parts(CORE, KNOWN.get).plan, CORE)

    def test_waves_come_part_by_part_and_the_own_ones_last(self) -> None:
        top = plan("ALL", "web", parts=(Part(plan="CORE"), Part(plan="SHOPS", opens="at-once")))
        laid = expand_parts(top, KNOWN.get)
        self.assertEqual([wave.name for wave in laid.plan.waves], ["Core: Wave 1", "Shops: Wave 1", "Wave 1"])
        self.assertEqual([wave.opens for wave in laid.plan.waves], ["ready", "at-once", "ready"])
        self.assertEqual(laid.plan.workloads(), ("db", "queue", "app", "web"))
        self.assertEqual(laid.authored, top)

    def test_who_arrives_twice_is_kept_where_it_arrives_first_and_named(self) -> None:
        laid = expand_parts(plan("ALL", parts=(Part(plan="CORE"), Part(plan="SHOPS"))), KNOWN.get)
        self.assertEqual([(t.workload, t.kept, t.dropped) for t in laid.twice], [("queue", "Core", "Shops")])

    def test_cues_of_a_part_stand_around_its_waves_under_names_of_their_own(self) -> None:
        cues = (
            Cue(id="in", title="In", notify=Notify(text="x")),
            Cue(id="out", title="Out", at="after", notify=Notify(text="y")),
        )
        known = {"CORE": replace(CORE, cues=cues)}
        laid = expand_parts(plan("ALL", "web", parts=(Part(plan="CORE"),)), known.get)
        self.assertEqual([cue.id for cue in laid.plan.waves[0].cues], ["CORE-in", "CORE-out"])
        self.assertEqual(laid.plan.waves[1].cues, ())

    def test_parts_of_parts(self) -> None:
        known = {**KNOWN, "BOTH": plan("BOTH", "web", parts=(Part(plan="CORE"), Part(plan="SHOPS")))}
        laid = expand_parts(plan("ALL", "web", parts=(Part(plan="BOTH"),)), known.get)
        self.assertEqual(laid.plan.workloads(), ("db", "queue", "app", "web"))

    def test_what_cannot_be_a_part_is_named(self) -> None:
        known = {**KNOWN, "BACK": replace(CORE, code="BACK", source="B", target="A")}
        parts = (Part(plan="GONE"), Part(plan="BACK"))
        laid = expand_parts(plan("ALL", "web", parts=parts), known.get)
        self.assertEqual((laid.missing, laid.other_way, laid.circle), (("GONE",), ("BACK",), ()))

    def test_a_plan_that_contains_itself_is_named(self) -> None:
        one = plan("ONE", "db", parts=(Part(plan="TWO"),))
        two = plan("TWO", "app", parts=(Part(plan="ONE"),))
        self.assertEqual(expand_parts(one, {"ONE": one, "TWO": two}.get).circle, ("ONE", "TWO", "ONE"))

    def test_a_part_that_is_met_again_comes_once(self) -> None:
        laid = expand_parts(plan("ALL", "web", parts=(Part(plan="CORE"), Part(plan="CORE"))), KNOWN.get)
        self.assertEqual((laid.again, laid.plan.workloads()), (("CORE",), ("db", "queue", "web")))

    def test_a_part_without_waves_adds_none(self) -> None:
        known = {"NONE": replace(CORE, code="NONE", waves=())}
        self.assertEqual(
            len(expand_parts(plan("ALL", "web", parts=(Part(plan="NONE"),)), known.get).plan.waves), 1
        )

    def test_rules_of_a_parts_wave_are_not_its_rules(self) -> None:
        tagged = replace(CORE, waves=(Wave(name="W", tag_rule="app=x", members=CORE.waves[0].members),))
        laid = expand_parts(plan("ALL", "web", parts=(Part(plan="CORE"),)), {"CORE": tagged}.get)
        self.assertEqual(laid.authored.waves[0].tag_rule, "")
