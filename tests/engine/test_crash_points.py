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

    def run_with(self, *lines: str) -> int:
        """Pass two places with these lines armed; the exit status."""
        self.file.write_text("".join(f"{line}\n" for line in lines))
        env = {"MAESTOSO_CRASH_POINTS": str(self.file), "PYTHONPATH": str(Path(__file__).parents[2] / "src")}
        return subprocess.run(
            [sys.executable, "-c", SCRIPT], env=env, capture_output=True, check=False
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

    def test_without_a_file_nothing_happens(self) -> None:
        self.assertEqual(self.run_with(), 0)


if __name__ == "__main__":
    unittest.main()
