"""Links are shared by weight, and nobody's bytes get lost."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.replication.sharing import backlog, drain_s, lags, share
from tests.core.replication.plain import plain_backlog, plain_share

amounts = st.lists(
    st.tuples(st.floats(0, 1e6), st.floats(0.1, 10)), min_size=1, max_size=20
)  # fmt: skip


class Sharing(unittest.TestCase):
    """Weighted max-min fairness."""

    def test_weights_count_only_among_those_who_want_more(self) -> None:
        granted, level = share(np.array([10.0, 100.0, 100.0]), np.array([1.0, 1.0, 3.0]), 90.0)
        np.testing.assert_allclose(granted, [10.0, 20.0, 60.0])
        self.assertAlmostEqual(level, 20.0)

    def test_where_there_is_enough_everybody_gets_all(self) -> None:
        granted, level = share(np.array([1.0, 2.0]), np.ones(2), 5.0)
        np.testing.assert_allclose(granted, [1.0, 2.0])
        self.assertEqual(level, float("inf"))

    def test_a_cut_link_gives_nothing(self) -> None:
        self.assertEqual(share(np.ones(3), np.ones(3), 0.0)[0].sum(), 0.0)

    @given(amounts, st.floats(0, 1e6), st.floats(0, 1e6))
    def test_it_is_what_filling_by_hand_gives(
        self, wants: list[tuple[float, float]], capacity: float, level: float
    ) -> None:
        demand = np.array([want for want, _ in wants])
        weight = np.array([heavy for _, heavy in wants])
        granted, _ = share(demand, weight, capacity, level)
        np.testing.assert_allclose(granted, plain_share(demand, weight, capacity), rtol=1e-6, atol=1e-3)
        self.assertLessEqual(granted.sum(), max(capacity, 0) * (1 + 1e-9) + 1e-6)


class Backlog(unittest.TestCase):
    """Over time, on one link."""

    def setUp(self) -> None:
        random = np.random.default_rng(4)
        self.change = random.lognormal(2, 1, (6, 90))
        self.weight = np.array([1.0, 1, 2, 2, 3, 5])
        self.capacity = np.full(90, 70.0)
        self.capacity[30:40] = 5.0

    def test_it_is_what_one_step_after_the_other_gives(self) -> None:
        sent, waiting = backlog(self.change, self.weight, self.capacity)
        plain = plain_backlog(self.change, self.weight, self.capacity)
        np.testing.assert_allclose(waiting, plain, rtol=1e-6, atol=1e-9)
        np.testing.assert_allclose((self.change - sent).sum(axis=1), waiting[:, -1], rtol=1e-6, atol=1e-9)
        self.assertTrue((sent.sum(axis=0) <= self.capacity * (1 + 1e-9)).all())

    def test_the_lag_is_the_age_of_the_oldest_byte_that_waits(self) -> None:
        change = np.array([[10.0, 10, 10, 10, 10]])
        sent = np.array([[10.0, 0, 0, 5, 35]])
        np.testing.assert_allclose(lags(change, sent, 60.0), [[0, 60, 120, 150, 0]])

    def test_a_backlog_drains_only_where_the_link_is_faster_than_the_changes(self) -> None:
        self.assertEqual(drain_s(1000, 10, 60), 20.0)
        self.assertIsNone(drain_s(1000, 60, 60))
        self.assertEqual(drain_s(0, 60, 10), 0.0)


if __name__ == "__main__":
    unittest.main()
