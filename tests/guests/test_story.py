"""Real machines through the whole application, from the first test to being home again."""

from __future__ import annotations

import unittest

from tests.guests.lab import needs_real_machines
from tests.guests.story import Story


@needs_real_machines
class RealMachines(unittest.TestCase):
    """Two guests at two sites, and Maestoso as a person would use it."""

    def test_tested_beside_production_lost_failed_over_and_brought_home(self) -> None:
        story = Story(self)
        story.host_started_anew()
        story.tested()
        story.lost_and_failed_over()
        story.protected_again()
        story.brought_home()
        story.judged()


if __name__ == "__main__":
    unittest.main()
