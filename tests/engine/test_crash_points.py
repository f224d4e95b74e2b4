"""Places where the crash harness lets a process die."""

from __future__ import annotations

import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

SCRIPT = (
    "from maestoso.agent_kit.crash_points import crash_point\n"
    "crash_point('before-send', ['r-1:power-on:db:1'])\n"
    "crash_point('after-commit', ['step.asked power-on:db', 'step.done register:db'])\n"
    "print('alive')\n"
)


class CrashPoints(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "points"
        self.env = {
            "MAESTOSO_CRASH_POINTS": str(self.file),
            "PYTHONPATH": str(Path(__file__).parents[2] / "src"),
        }

    def run_with(self, *lines: str) -> int:
        """Pass two places with these lines armed; the exit status."""
        self.file.write_text("".join(f"{line}\n" for line in lines))
        return subprocess.run(
            [sys.executable, "-c", SCRIPT], env=self.env, capture_output=True, check=False
        ).returncode

    def test_a_line_kills_once_and_is_used_up(self) -> None:
        self.assertEqual(
            self.run_with("after-commit step.asked power-on:", "before-write x"), -signal.SIGKILL
        )
        self.assertEqual(self.file.read_text(), "before-write x\n")

    def test_all_words_must_be_there_and_the_place_must_be_the_same(self) -> None:
        for line in ("before-send power-off:", "after-send power-on:", "after-commit step.asked demote:"):
            with self.subTest(line):
                self.assertEqual(self.run_with(line), 0)

    def test_a_line_kills_once_among_processes_that_come_to_it_together(self) -> None:
        lines, processes = 40, 8
        self.file.write_text("before-send power-on:\n" * lines)
        # Each of them forks what dies, over and over, until no line is left to die of.
        script = (
            "import os\n"
            "from maestoso.agent_kit.crash_points import crash_point\n"
            "deaths, lives = 0, False\n"
            "while not lives:\n"
            "    child = os.fork()\n"
            "    if not child:\n"
            "        crash_point('before-send', ['power-on:db'])\n"
            "        os._exit(0)\n"
            "    lives = os.waitpid(child, 0)[1] == 0\n"
            "    deaths += not lives\n"
            "print(deaths)\n"
        )
        begun = [
            subprocess.Popen([sys.executable, "-c", script], env=self.env, stdout=subprocess.PIPE)
            for _ in range(processes)
        ]
        self.assertEqual(sum(int(one.communicate()[0]) for one in begun), lines)

    def test_without_a_file_nothing_happens(self) -> None:
        self.assertEqual(self.run_with(), 0)


if __name__ == "__main__":
    unittest.main()
