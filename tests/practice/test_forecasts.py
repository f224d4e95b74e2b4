"""Forecasts against what happens in virtual time."""

from __future__ import annotations

import unittest

from tests.practice.virtual_runs import foreseen, off, play


class AgainstRuns(unittest.TestCase):
    """By what 40 runs measured, 200 more are forecast. ``bench.forecasts`` does it for every plan."""

    def test_the_middle_and_the_late_ends_are_within_five_percent(self) -> None:
        made = foreseen("REPT", play("REPT", 0, 40).measured)
        for name, share in off(made, play("REPT", 1000, 200)).items():
            with self.subTest(name):
                self.assertLess(abs(share), 0.05)
