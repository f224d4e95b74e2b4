"""What would come back if a site were lost: counted from plans that can start and points that exist."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.model.plan import Member
from maestoso.core.readiness.if_lost import IfLost, Place, Way, if_lost, way_of
from tests import worlds

NAMES = {"A": "Eastside", "B": "Westside"}
GROUPS = dict.fromkeys(worlds.NAMES, "shop")
HERE = Place(code="A", name="Eastside", running=frozenset((*worlds.NAMES, "files")))


def way(**changes: object) -> Way:
    """The plan of the shop as a way out of Eastside, able to start."""
    return replace(way_of(worlds.context(), "", 400.0), **changes)  # type: ignore[arg-type]


def lost(*ways: Way, place: Place = HERE) -> IfLost:
    """What is said of the loss of a place."""
    return if_lost(place, ways, GROUPS, NAMES, worlds.NOW)


class Ways(unittest.TestCase):
    def test_a_plan_brings_what_is_powered_on_and_has_a_point(self) -> None:
        self.assertEqual(way().brings, set(worlds.NAMES))
        self.assertEqual(way().loses_s, 20.0)
        off = worlds.plan((Member(workload="db"), Member(workload="queue", power_on=False)))
        found = way_of(worlds.context(plan=off), "", None)
        self.assertEqual((found.brings, found.leaves_off), ({"db"}, {"queue"}))
        self.assertEqual(way_of(worlds.context(newest={}), "", None).brings, set())
        away = worlds.context(stages={"shop": "running uncommitted"})
        self.assertEqual(way_of(away, "", None).brings, set())


class Sentences(unittest.TestCase):
    def test_what_would_be_back_and_what_not(self) -> None:
        found = lost(way())
        self.assertEqual(
            found.sentence,
            "If Eastside were lost this minute, 4 of 5 workloads would be back at Westside in about 7 min, "
            "with at most 20 s of work gone.",
        )
        self.assertEqual(found.why_not, "files: in no group, so nothing is copied.")
        self.assertEqual((found.back, found.running, found.plans), (4, 5, ("SHOP",)))

    def test_a_plan_that_cannot_start_brings_nothing_back(self) -> None:
        found = lost(way(blocked_because="Shop is running committed."))
        self.assertEqual(
            found.sentence, "If Eastside were lost this minute, none of its 5 workloads would come back."
        )
        self.assertIn("4 workloads: not while Shop cannot start (Shop is running committed)", found.why_not)
        self.assertEqual((found.back, found.plans), (0, ()))

    def test_without_a_forecast_the_sentence_is_whole(self) -> None:
        self.assertEqual(
            lost(way(about_s=None, loses_s=None)).sentence,
            "If Eastside were lost this minute, 4 of 5 workloads would be back at Westside.",
        )

    def test_plans_that_share_a_workload_do_not_count_twice(self) -> None:
        part = way(plan="DATA", name="Data", brings=frozenset({"db"}), about_s=100.0)
        self.assertEqual(lost(part, way()).plans, ("SHOP",))
        other = way(plan="FILES", name="Files", brings=frozenset({"files"}), about_s=100.0)
        found = lost(other, way())
        self.assertEqual((found.plans, found.back, found.about_s), (("SHOP", "FILES"), 5, 500.0))
        self.assertIn("in about 8 min, one plan after the other", found.sentence)

    def test_a_test_under_way_is_said_to_come_first(self) -> None:
        self.assertIn("once run 3, a test, is aborted", lost(way(first="run 3, a test, is aborted")).sentence)

    def test_what_is_left_off_or_beside_the_plan_has_its_reason(self) -> None:
        found = lost(way(brings=frozenset({"db", "app"}), leaves_off=frozenset({"queue"})))
        self.assertIn("queue: left off by intent", found.why_not)
        self.assertIn("web: protected, and in no plan that brings it up", found.why_not)

    def test_a_site_that_is_down_is_no_longer_a_condition(self) -> None:
        since = worlds.NOW - timedelta(minutes=4)
        down = replace(HERE, down=True, silent_since=since)
        self.assertEqual(
            lost(way(), place=down).sentence,
            "Eastside does not answer since 14:56 UTC, for 4 min. 5 workloads ran there; 4 can be brought up at "
            "Westside in about 7 min, with at most 20 s of work gone.",
        )
        stuck = lost(way(blocked_because="Westside does not answer."), place=down)
        self.assertIn("5 workloads ran there; none can be brought up elsewhere now.", stuck.sentence)
        moving = replace(down, recovering=("Shop is being recovered at Westside (run 7)",))
        self.assertTrue(
            lost(way(blocked_because="Shop is failing over."), place=moving).sentence.endswith(
                "for 4 min. Shop is being recovered at Westside (run 7)."
            )
        )

    def test_what_a_run_is_moving_is_on_its_way_and_not_lost(self) -> None:
        moving = dict.fromkeys(worlds.NAMES, "run 7")
        place = replace(
            HERE, down=True, recovering=("Shop is being recovered at Westside (run 7)",), moving=moving
        )
        found = lost(way(blocked_because="Shop is failing over."), place=place)
        self.assertEqual(
            found.sentence, "Eastside does not answer. Shop is being recovered at Westside (run 7)."
        )
        self.assertEqual(
            found.why_not, "4 workloads: on the way with run 7; files: in no group, so nothing is copied."
        )
        alone = replace(place, running=frozenset({"db"}), moving={"db": "run 7"})
        self.assertEqual(lost(place=alone).why_not, "db: on the way with run 7.")

    def test_nothing_and_one(self) -> None:
        empty = replace(HERE, running=frozenset())
        self.assertEqual(lost(way(), place=empty).sentence, "No workload runs at Eastside.")
        alone = replace(HERE, running=frozenset({"files"}))
        self.assertIn("its only workload would not come back", lost(way(), place=alone).sentence)


if __name__ == "__main__":
    unittest.main()
