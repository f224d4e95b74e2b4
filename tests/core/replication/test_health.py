"""Health explains itself; the lifecycle refuses what is not in its table; costs add up."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import get_args

from maestoso.core.errors import BadValue, Refused
from maestoso.core.model.estate import Link, ThrottleWindow
from maestoso.core.model.protection import CopyState, Policy, RecoveryPoint
from maestoso.core.replication.cost import policy_cost
from maestoso.core.replication.health import causes, health
from maestoso.core.replication.lifecycle import TABLE, Happening, Stage, after, diagram
from maestoso.core.replication.throttle import minute_of, narrowest_bps, room_bps, share_at
from tests import worlds

NOW = worlds.NOW
POINT = RecoveryPoint(
    id="p", group="shop", at=NOW - timedelta(seconds=40), kind="crash-consistent", changed_bytes=1
)
STATE = CopyState(group="shop", source="A", digest="d", newest=POINT, cycles=60, room_bps=1e7)


class Healths(unittest.TestCase):
    """One sentence each."""

    def said(self, **changes: object) -> tuple[str, str]:
        found = health(worlds.GROUP, replace(STATE, **changes), NOW)  # type: ignore[arg-type]
        return found.condition, found.sentence

    def test_a_healthy_group_says_its_lag_and_objective(self) -> None:
        said = ("healthy", "Its newest point is 40 s old, within the objective of 2 min.")
        self.assertEqual(self.said(), said)

    def test_a_lagging_group_says_when_it_has_caught_up(self) -> None:
        old = replace(POINT, at=NOW - timedelta(seconds=400))
        condition, sentence = self.said(newest=old, backlog_bytes=9 * 2**30, change_bps=1e6)
        self.assertEqual(condition, "lagging")
        self.assertIn("9 GiB wait; at 80 Mbit/s they are across in 18 min.", sentence)
        self.assertIn("grow faster", self.said(newest=old, backlog_bytes=2**30, change_bps=2e7)[1])

    def test_a_failing_group_says_the_share_and_the_reasons(self) -> None:
        condition, sentence = self.said(failed={"the storage was busy": 9, "timed out": 3})
        self.assertEqual(condition, "failing")
        self.assertIn("20% of the copy cycles of the last hour failed", sentence)
        self.assertIn("the storage was busy (9) and timed out (3)", sentence)

    def test_paused_stalled_seeding_and_waiting(self) -> None:
        self.assertEqual(self.said(paused_because="array upgrade")[0], "paused")
        self.assertIn("array upgrade", self.said(paused_because="array upgrade")[1])
        self.assertEqual(self.said(stalled_because="the link from A to B is cut")[0], "stalled")
        condition, sentence = self.said(seed_bytes=100 * 2**30, seeded_bytes=25 * 2**30, rate_bps=1e8)
        self.assertEqual(condition, "seeding")
        self.assertIn("25 GiB of 100 GiB at 800 Mbit/s, 13 min left", sentence)
        self.assertEqual(self.said(newest=None)[0], "waiting")
        self.assertEqual(health(worlds.GROUP, None, NOW).condition, "waiting")

    def test_a_lost_site_is_one_cause_for_all_its_groups(self) -> None:
        groups = [replace(worlds.GROUP, code=f"g{n}", name=f"Group {n}") for n in range(5)]
        found = [(group, health(group, STATE, NOW, "No connection.")) for group in groups]
        (one,) = causes(found)
        self.assertEqual(len(one.groups), 5)
        self.assertIn(
            "5 groups are not copied because of it (Group 0, Group 1, Group 2 and 2 more)", one.sentence
        )
        self.assertEqual(causes([(worlds.GROUP, health(worlds.GROUP, STATE, NOW))]), ())


class Lifecycle(unittest.TestCase):
    """One table."""

    def test_everything_in_the_table_happens_and_everything_else_is_refused(self) -> None:
        for stage in get_args(Stage):
            for happening in get_args(Happening):
                with self.subTest(stage=stage, happening=happening):
                    if (stage, happening) in TABLE:
                        self.assertEqual(after("shop", stage, happening), TABLE[stage, happening])
                    else:
                        with self.assertRaises(Refused) as caught:
                            after("shop", stage, happening)
                        self.assertIn(stage, caught.exception.sentence)

    def test_every_stage_can_be_reached_and_left(self) -> None:
        self.assertEqual({stage for stage, _ in TABLE}, set(get_args(Stage)))
        self.assertEqual(set(TABLE.values()), set(get_args(Stage)))

    def test_the_picture_in_the_documents_is_the_table(self) -> None:
        text = (Path(__file__).parents[3] / "docs" / "protection.md").read_text(encoding="utf-8")
        self.assertIn(diagram(), text)


class Throttle(unittest.TestCase):
    """Windows in which copies get less."""

    NIGHT = ThrottleWindow(days=("fri",), begins="22:00", ends="06:00", share=0.25)
    FRIDAY = datetime(2026, 11, 13, tzinfo=UTC).timestamp()

    def test_a_window_over_midnight_belongs_to_the_day_it_begins_on(self) -> None:
        windows = (self.NIGHT,)
        hours = {hour: share_at(windows, self.FRIDAY + hour * 3600) for hour in (0, 5, 21, 22, 29, 30)}
        self.assertEqual(hours, {0: 1.0, 5: 1.0, 21: 1.0, 22: 0.25, 29: 0.25, 30: 1.0})

    def test_the_smallest_of_overlapping_windows_counts(self) -> None:
        day = ThrottleWindow(days=("fri",), begins="08:00", ends="24:00", share=0.5)
        link = Link(one="A", other="B", bandwidth_bps=8000, loss=0.5, windows=(day, self.NIGHT))
        self.assertEqual(room_bps(link, self.FRIDAY + 23 * 3600), 125.0)
        self.assertEqual(room_bps(link, self.FRIDAY + 9 * 3600), 250.0)
        self.assertEqual(narrowest_bps(link), 125.0)

    def test_times_of_day(self) -> None:
        self.assertEqual(minute_of("24:00"), 1440)
        for text in ("8:00", "25:00", "12:60", "noon", "24:01", ""):
            with self.assertRaises(BadValue):
                minute_of(text)


class Costs(unittest.TestCase):
    """What a policy would cost, before it is saved."""

    def cost(self, **changes: object) -> object:
        usual = {"mean_bps": 1e6, "peak_bps": 2e6, "size_bytes": 2**40, "room_bps": 1e7, "others_bps": 4e6}
        policy = replace(Policy(interval_s=60, rpo_s=120), **changes)  # type: ignore[arg-type]
        return policy_cost(policy, **usual, now=1_794_495_600)  # type: ignore[arg-type]

    def test_space_is_what_changes_between_the_points_kept(self) -> None:
        cost = self.cost()
        spans = cost.points[-1] - cost.points[0]  # type: ignore[attr-defined]
        self.assertAlmostEqual(cost.space_bytes, spans * 1e6, delta=1)  # type: ignore[attr-defined]

    def test_it_fits_where_the_busiest_hour_fits_beside_the_others(self) -> None:
        self.assertTrue(self.cost().fits)  # type: ignore[attr-defined]
        tight = policy_cost(
            Policy(interval_s=60, rpo_s=120), mean_bps=1e6, peak_bps=7e6, size_bytes=1, room_bps=1e7,
            others_bps=4e6, now=1_794_495_600,
        )  # fmt: skip
        self.assertFalse(tight.fits)
        self.assertIn("cannot carry", tight.sentences[-1])

    def test_compression_and_seeds_count(self) -> None:
        self.assertEqual(self.cost(compression=True).mean_bps, 6e5)  # type: ignore[attr-defined]
        self.assertEqual(self.cost(initial="seed").first_copy_s, 0.0)  # type: ignore[attr-defined]
        self.assertAlmostEqual(self.cost().first_copy_s, 2**40 / 6e6)  # type: ignore[attr-defined]

    def test_an_objective_shorter_than_the_interval_is_said(self) -> None:
        self.assertIn("cannot meet", self.cost(interval_s=300).sentences[-1])  # type: ignore[attr-defined]


if __name__ == "__main__":
    unittest.main()
