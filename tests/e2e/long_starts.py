"""One start after the other, as on somebody's own machine."""

from __future__ import annotations

import unittest

from tests.e2e.application import Application, until


class AnotherOne(unittest.TestCase):
    """An installation that lasts."""

    def setUp(self) -> None:
        self.other = Application(fresh=True, durable=True)
        self.addCleanup(self.other.close)

    def test_twice_in_a_row_from_another_directory_and_nothing_is_left_running(self) -> None:
        self.other.start()
        password = self.other.password
        self.assertEqual(self.other.interrupt(), 0)
        self.assertEqual(self.other.command("stop").stdout.strip(), "Nothing was running.")
        self.other.start()
        self.assertEqual(self.other.password, password)
        runs = self.other.api().get("/runs")["runs"]
        self.assertEqual(len(runs), 6)
        self.assertIn("Stopped", self.other.command("stop").stdout)
        until(lambda: self.other.process and self.other.process.poll() is not None, "the launcher to end")
        self.assertIn("Removed", self.other.command("reset").stdout)
        self.assertFalse(self.other.options.var.exists())


if __name__ == "__main__":
    unittest.main()
