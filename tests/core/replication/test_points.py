"""Which points a policy holds."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.model.protection import Policy
from maestoso.core.replication.points import (
    Burst,
    ChangeProfile,
    chance,
    change_series,
    clean_point_hint,
    points,
    rate,
    usual_rate,
)

NOW = datetime(2026, 11, 12, 15, 7, 33, tzinfo=UTC)
POLICY = Policy(
    interval_s=60,
    rpo_s=120,
    app_consistent_every_s=3600,
    keep_all_s=3600,
    keep_hourly_s=86400,
    keep_daily_s=7 * 86400,
)
QUIET = ChangeProfile(usual_bps=1e6)


class Retention(unittest.TestCase):
    """Keep all, then hourly, then daily."""

    def test_the_newest_point_is_at_most_one_interval_old(self) -> None:
        newest = points("g", POLICY, QUIET, NOW)[-1]
        self.assertLess((NOW - newest.at).total_seconds(), 60)

    def test_the_ladder_thins_out(self) -> None:
        ages = [(NOW - point.at).total_seconds() for point in points("g", POLICY, QUIET, NOW)]
        self.assertEqual(sum(1 for age in ages if age < 3600), 60)
        self.assertIn(sum(1 for age in ages if 3600 <= age < 86400), (23, 24))
        self.assertIn(sum(1 for age in ages if age >= 86400), (5, 6))
        self.assertLess(max(ages), 8 * 86400)

    def test_hourly_points_are_the_application_consistent_ones(self) -> None:
        older = [p for p in points("g", POLICY, QUIET, NOW) if NOW - p.at > timedelta(hours=1, minutes=1)]
        self.assertEqual({point.kind for point in older}, {"application-consistent"})

    @given(st.sampled_from((5, 20, 60, 300, 3600)), st.integers(0, 10**6))
    def test_points_are_in_order_once_each_and_on_the_grid(self, interval: int, later: int) -> None:
        policy = Policy(interval_s=interval, rpo_s=interval * 2, keep_all_s=1800)
        held = points("g", policy, QUIET, NOW + timedelta(seconds=later))
        times = [point.at.timestamp() for point in held]
        self.assertEqual(times, sorted(set(times)))
        self.assertTrue(all(time % interval == 0 for time in times))

    def test_what_was_held_is_the_same_when_asked_again(self) -> None:
        self.assertEqual(points("g", POLICY, QUIET, NOW), points("g", POLICY, QUIET, NOW))

    def test_a_fifth_of_the_cycles_leaves_no_point(self) -> None:
        failing = ChangeProfile(usual_bps=1e6, failed_share=0.2)
        many = Policy(interval_s=5, rpo_s=60, keep_all_s=20000)
        share = len(points("g", many, failing, NOW)) / len(points("g", many, QUIET, NOW))
        self.assertAlmostEqual(share, 0.8, delta=0.03)


class Change(unittest.TestCase):
    """The rhythm of the day, and what is unusual."""

    def test_nights_are_quieter_than_afternoons(self) -> None:
        night, day = (datetime(2026, 11, 12, hour, tzinfo=UTC).timestamp() for hour in (3, 15))
        self.assertGreater(usual_rate(QUIET, day), 3 * usual_rate(QUIET, night))

    def test_a_burst_is_its_factor_over_the_usual(self) -> None:
        start = NOW - timedelta(hours=12)
        bursting = ChangeProfile(usual_bps=1e6, bursts=(Burst(start=start, length_s=3600, factor=5.0),))
        inside, after = start.timestamp() + 60, start.timestamp() + 3700
        self.assertGreater(rate("g", bursting, inside) / usual_rate(bursting, inside), 4.0)
        self.assertLess(rate("g", bursting, after) / usual_rate(bursting, after), 1.2)

    def test_the_clean_point_is_the_newest_before_the_burst(self) -> None:
        start = datetime(2026, 11, 12, 2, 10, tzinfo=UTC)
        bursting = ChangeProfile(usual_bps=1e6, bursts=(Burst(start=start, length_s=4500, factor=5.0),))
        hint = clean_point_hint(points("g", POLICY, bursting, NOW))
        assert hint is not None
        self.assertEqual(hint.at, datetime(2026, 11, 12, 2, 0, tzinfo=UTC))

    def test_without_anything_unusual_there_is_no_hint(self) -> None:
        self.assertIsNone(clean_point_hint(points("g", POLICY, QUIET, NOW)))

    def test_the_series_covers_the_time_asked_for(self) -> None:
        series = change_series("g", QUIET, NOW, 86400, 600)
        self.assertEqual(len(series), 145)
        self.assertLessEqual(series[-1].at, NOW)
        self.assertTrue(all(0.8 < one.anomaly < 1.2 for one in series))

    @given(st.text(), st.integers())
    def test_chance_is_a_share_that_depends_on_its_parts_only(self, text: str, number: int) -> None:
        drawn = chance(text, number)
        self.assertTrue(0 <= drawn < 1)
        self.assertEqual(drawn, chance(text, number))


if __name__ == "__main__":
    unittest.main()
