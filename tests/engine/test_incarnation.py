"""Which process it is that holds a lease."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import unittest
from unittest import mock

from maestoso.engine import incarnation as module
from maestoso.engine.incarnation import incarnation, known_gone
from tests.run_log import WHO


class Known(unittest.TestCase):
    """Only what is known counts."""

    def setUp(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-c", WHO, "one"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        self.addCleanup(self.process.communicate)
        assert self.process.stdout is not None
        self.other = self.process.stdout.readline().strip()
        self.mine = incarnation("one")

    def test_two_processes_of_one_name_are_two(self) -> None:
        self.assertNotEqual(self.other, self.mine)
        self.assertEqual(incarnation("one"), self.mine)
        self.assertLess(len(incarnation("n" * 60)), 100)

    def test_who_lives_is_not_gone_also_when_it_stands_still(self) -> None:
        self.assertFalse(known_gone(self.other, self.mine))
        os.kill(self.process.pid, signal.SIGSTOP)
        self.addCleanup(os.kill, self.process.pid, signal.SIGCONT)
        self.assertFalse(known_gone(self.other, self.mine))

    def test_who_was_killed_is_gone_also_before_it_is_buried(self) -> None:
        self.process.kill()
        os.waitid(os.P_PID, self.process.pid, os.WEXITED | os.WNOWAIT)
        self.assertTrue(known_gone(self.other, self.mine))
        self.process.wait()
        self.assertTrue(known_gone(self.other, self.mine))

    def test_a_number_that_was_given_to_another_process_does_not_bring_it_back(self) -> None:
        name, pid, _ = self.other.rsplit(":", 2)
        self.assertTrue(known_gone(f"{name}:{pid}:1", self.mine))

    def test_another_name_another_machine_and_itself_are_not_known_to_be_gone(self) -> None:
        self.process.communicate()
        self.assertTrue(known_gone(self.other, self.mine))
        self.assertFalse(known_gone(self.other, incarnation("two")))
        self.assertFalse(known_gone(self.mine, self.mine))
        with mock.patch.object(module, "_host", lambda: "elsewhere"):
            self.assertFalse(known_gone(self.other, self.mine))
        for owner in ("", "one", "one/", "one/x", "one/a:b:c", "one/a:1:2:3"):
            self.assertFalse(known_gone(owner, self.mine), owner)


if __name__ == "__main__":
    unittest.main()
