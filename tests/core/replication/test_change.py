"""How fast things change: a pure function of time."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.replication.change import Burst, ChangeProfile, Job, chance, rate, usual_rate

NOW = datetime(2026, 11, 12, 15, 7, 33, tzinfo=UTC)
QUIET = ChangeProfile(usual_bps=1e6)


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

    def test_a_job_comes_every_night_at_its_time(self) -> None:
        nightly = ChangeProfile(usual_bps=1e6, jobs=(Job(begins_s=7200, length_s=1800, factor=4.0),))
        for day in (10, 11, 12):
            inside = datetime(2026, 11, day, 2, 10, tzinfo=UTC).timestamp()
            self.assertEqual(usual_rate(nightly, inside), 4 * usual_rate(QUIET, inside))
            self.assertEqual(usual_rate(nightly, inside + 1800), usual_rate(QUIET, inside + 1800))

    @given(st.text(), st.integers())
    def test_chance_is_a_share_that_depends_on_its_parts_only(self, text: str, number: int) -> None:
        drawn = chance(text, number)
        self.assertTrue(0 <= drawn < 1)
        self.assertEqual(drawn, chance(text, number))


if __name__ == "__main__":
    unittest.main()
