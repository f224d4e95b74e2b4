"""Ladders keep what they say; unusual change is found and the usual is not accused."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.model.protection import ChangeRate, Policy, RecoveryPoint
from maestoso.core.replication.anomaly import clean_point_hint, judged, scored, scores
from maestoso.core.replication.retention import ladder_times, ladders, retained
from tests.core.replication.plain import plain_kept, plain_scores
from tests.core.replication.series import labelled, quality

NOW = 1_794_495_600
NOW_AT = datetime.fromtimestamp(NOW, UTC)
POLICY = Policy(interval_s=60, rpo_s=120, keep_all_s=3600, keep_hourly_s=86400, keep_daily_s=7 * 86400)


class Retention(unittest.TestCase):
    """All, then hourly, then daily."""

    def test_the_ladder_thins_out(self) -> None:
        ages = NOW - ladder_times(POLICY, NOW)
        self.assertEqual(int((ages < 3600).sum()), 60)
        self.assertIn(int(((ages >= 3600) & (ages < 86400)).sum()), (23, 24))
        self.assertIn(int((ages >= 86400).sum()), (6, 7))
        self.assertLess(ages.max(), 7 * 86400)

    @given(st.lists(st.integers(NOW - 9 * 86400, NOW), max_size=80), st.integers(0, 12))
    def test_it_is_what_going_through_one_by_one_keeps(self, at: list[int], most: int) -> None:
        policy = replace(POLICY, most_points=most)
        times = np.array(sorted(at), dtype=np.int64)
        found = retained(np.zeros(len(times), dtype=np.int64), times, NOW, ladders([policy]))
        self.assertEqual(times[found].tolist(), plain_kept(at, NOW, policy))

    def test_groups_do_not_mix(self) -> None:
        times = np.array([NOW - 7200, NOW - 7140, NOW - 7200, NOW - 10], dtype=np.int64)
        group = np.array([0, 0, 1, 1], dtype=np.int64)
        found = retained(group, times, NOW, ladders([POLICY, replace(POLICY, most_points=1)]))
        self.assertEqual(found.tolist(), [True, False, False, True])

    def test_a_pinned_point_stays_and_does_not_count(self) -> None:
        times = np.array([NOW - 90 * 86400, NOW - 120, NOW - 60], dtype=np.int64)
        pinned = np.array([True, False, False])
        rules = ladders([replace(POLICY, most_points=1)])
        found = retained(np.zeros(3, dtype=np.int64), times, NOW, rules, pinned)
        self.assertEqual(found.tolist(), [True, False, True])

    def test_a_point_beside_another_of_the_same_second_stays(self) -> None:
        """As the one of a last copy does that falls into the second of a regular one."""
        times = np.array([NOW - 7200, NOW - 7200, NOW - 60, NOW - 1, NOW - 1], dtype=np.int64)
        found = retained(np.zeros(5, dtype=np.int64), times, NOW, ladders([POLICY]))
        self.assertEqual(found.tolist(), [True, False, True, True, True])

    def test_thinning_twice_is_thinning_once(self) -> None:
        times = ladder_times(POLICY, NOW)
        again = retained(np.zeros(len(times), dtype=np.int64), times, NOW, ladders([POLICY]))
        self.assertTrue(again.all())


class Anomalies(unittest.TestCase):
    """On series of which we know where the bursts are."""

    def test_bursts_are_found_and_the_usual_is_not_accused(self) -> None:
        rates, burst = labelled(300, 5, 6, seed=11)
        precision, recall = quality(scores(rates, 6, 144), burst, 144)
        self.assertGreater(precision, 0.9)
        self.assertGreater(recall, 0.9)

    def test_it_finds_nearly_what_exact_medians_find(self) -> None:
        rates, burst = labelled(60, 2, 12, seed=3)
        exact = quality(plain_scores(rates, 72), burst, 288)
        quick = quality(scores(rates, 12), burst, 288)
        self.assertGreaterEqual(quick[1], exact[1] - 0.02)
        self.assertGreaterEqual(quick[0], exact[0] - 0.02)

    def test_a_nightly_job_is_usual_from_its_third_night(self) -> None:
        night = np.ones(144)
        night[12:18] = 6.0
        found = scores(np.tile(night, 6)[None, :], 6, 144)[0]
        self.assertTrue((found[3 * 144 :] < 3).all())
        self.assertTrue((found[:144] >= 3).any())

    def test_a_series_shorter_than_an_hour_has_no_opinion(self) -> None:
        np.testing.assert_allclose(scores(np.ones((1, 3)), 6, 144), [[1, 1, 1]])
        self.assertEqual(scored((), 600), ())

    def test_a_few_blocks_of_a_machine_at_rest_are_no_burst_and_nothing_is_so_many_times_nothing(
        self,
    ) -> None:
        def anomalies(written: float) -> list[float]:
            rates = [0.0] * 288
            rates[200:203] = [written] * 3
            at = [NOW_AT + timedelta(minutes=10 * i) for i in range(288)]
            series = [ChangeRate(at=one, rate_bps=rate) for one, rate in zip(at, rates, strict=True)]
            return [one.anomaly for one in scored(series, 600)]

        self.assertEqual(set(anomalies(9_000.0)), {1.0})
        burst = anomalies(2e6)
        self.assertEqual([i for i, one in enumerate(burst) if one >= 3], [200, 201, 202])
        self.assertLess(max(burst), 200)

    def test_points_take_the_anomaly_of_their_time_and_the_hint_is_before_the_burst(self) -> None:
        start = datetime(2026, 11, 10, tzinfo=UTC)
        rates = [1e6] * 288
        rates[200:206] = [9e6] * 6
        series = scored(
            [ChangeRate(at=start + timedelta(minutes=10 * i), rate_bps=r) for i, r in enumerate(rates)], 600
        )
        points = [
            RecoveryPoint(
                id=str(i), group="g", at=start + timedelta(minutes=10 * i + 1), changed_bytes=1,
                kind="crash-consistent",
            )
            for i in range(288)
        ]  # fmt: skip
        held = judged(points, series, 600)
        self.assertEqual([p.id for p in held if p.anomaly >= 3], [str(i) for i in range(200, 206)])
        hint = clean_point_hint(held)
        assert hint is not None
        self.assertEqual(hint.id, "199")
        self.assertIsNone(clean_point_hint(held[:150]))


if __name__ == "__main__":
    unittest.main()
