"""Processes that begin as copies of the supervisor are what ``python -m`` would have made them."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock
from unittest.mock import patch

from maestoso.cli import forking
from maestoso.server.config.options import ROOT, variable
from maestoso.server.config.standby import Standby, write_standby


class Options(forking.ForkingOptions):
    """Of a supervisor that was not started; keeps what it logs."""

    def __init__(self) -> None:
        self.warnings: list[str] = []
        self.logger = self

    def warn(self, text: str) -> None:
        """What a logger does with a warning."""
        self.warnings.append(text)


class Forking(unittest.TestCase):
    """A copy of this process, and what it says."""

    def start(self, supervisor: str, *program: str, **environment: str) -> tuple[str, str, int]:
        """What a process prints that a supervisor started, loaded or bare, to either end, and its status."""
        done = subprocess.run(
            [sys.executable, "-m", "tests.cli.forker", supervisor, *program],
            input=json.dumps({"SUPERVISOR_PROCESS_NAME": "engine", **environment}),
            capture_output=True,
            text=True,
            cwd=ROOT,
        )
        return done.stdout, done.stderr, done.returncode

    def become(self, *arguments: str, **environment: str) -> tuple[str, str, int]:
        """A copy that becomes :mod:`tests.cli.forked`."""
        return self.start("loaded", sys.executable, "-m", "tests.cli.forked", *arguments, **environment)

    def test_it_has_the_arguments_and_the_environment_of_the_command_line_and_a_name(self) -> None:
        said, wrong, status = self.become("returns", "--port", "80", SPT_NOENV="1", COLOUR="grey")
        self.assertEqual((wrong, status), ("", 0))
        self.assertEqual(
            json.loads(said.splitlines()[0]),
            {
                "arguments": ["returns", "--port", "80"],
                "file": str(ROOT / "tests" / "cli" / "forked.py"),
                "environment": {"SUPERVISOR_PROCESS_NAME": "engine", "SPT_NOENV": "1", "COLOUR": "grey"},
                "title": "maestoso: engine",
            },
        )

    def test_it_waits_for_its_threads_and_says_its_last_word(self) -> None:
        for how in ("returns", "3", "raises"):
            with self.subTest(how):
                self.assertEqual(self.become(how)[0].splitlines()[1:], ["a thread ends", "the last word"])

    def test_it_ends_as_python_would(self) -> None:
        self.assertEqual(self.become("0")[2], 0)
        self.assertEqual(self.become("3")[2], 3)
        self.assertEqual(self.become("no room")[1:], ("no room\n", 1))
        _, wrong, status = self.become("raises")
        self.assertEqual(status, 1)
        self.assertIn("ValueError: it cannot go on", wrong)

    def test_a_module_that_is_not_there_is_said(self) -> None:
        _, wrong, status = self.start("loaded", sys.executable, "-m", "tests.cli.nothing")
        self.assertEqual(status, 1)
        self.assertIn("tests.cli.nothing", wrong)

    def test_a_signal_right_after_its_beginning_is_for_it_and_not_for_handlers_of_the_supervisor(
        self,
    ) -> None:
        heard: list[int] = []
        before = signal.signal(signal.SIGTERM, lambda number, frame: heard.append(number))
        self.addCleanup(signal.signal, signal.SIGTERM, before)
        pid = Options().fork()
        if pid == 0:
            try:
                os.kill(os.getpid(), signal.SIGTERM)
            finally:
                os._exit(99)
        self.assertEqual(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]), -signal.SIGTERM)
        os.kill(os.getpid(), signal.SIGTERM)
        self.assertEqual(heard, [signal.SIGTERM])

    def test_other_programs_and_all_that_an_unloaded_supervisor_starts_are_programs_of_their_own(
        self,
    ) -> None:
        self.assertEqual(self.start("loaded", "/bin/echo", "-m", "here"), ("-m here\n", "", 0))
        said, wrong, status = self.start(
            "bare", sys.executable, "-m", "tests.cli.forked", "0", PYTHONPATH=str(ROOT)
        )
        self.assertEqual((wrong, status), ("", 0))
        self.assertIn(sys.executable, json.loads(said.splitlines()[0])["title"])


class Spawning(unittest.TestCase):
    """For whom the application is loaded."""

    def test_only_before_the_first_process_of_ours_and_a_program_that_is_gone_ends_nobody(self) -> None:
        options = mock.Mock()
        for command, loads in (("/nowhere/mariadbd --x", 0), (f"{sys.executable} -m django run_engine", 1)):
            process = forking.ForkedProcess.__new__(forking.ForkedProcess)
            process.config = mock.Mock(options=options, command=command)
            with mock.patch.object(forking.Subprocess, "spawn", return_value=7):
                self.assertEqual(process.spawn(), 7)
            self.assertEqual(options.load.call_count, loads)


class Loading(unittest.TestCase):
    """Whether a supervisor loads the application ahead."""

    def setUp(self) -> None:
        self.options = Options()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.var = Path(folder.name)
        self.enterContext(patch.dict(os.environ, {variable("var"): folder.name}))

    def test_one_that_cannot_says_why_once_and_starts_its_processes_as_ever(self) -> None:
        with patch.dict(sys.modules, {"maestoso.server.config.preload": None}):
            self.options.load()
            self.options.load()
        self.assertFalse(self.options._loaded)
        self.assertEqual(len(self.options.warnings), 1)
        self.assertIn("maestoso.server.config.preload", self.options.warnings[0])

    def test_that_of_a_standby_does_not_for_its_settings_change_when_it_takes_over(self) -> None:
        write_standby(self.var, Standby(host="a.example", port=1, since="2026-03-02T10:00:00Z", position=""))
        with patch.dict(sys.modules, {"maestoso.server.config.preload": None}):
            self.options.load()
        self.assertEqual((self.options._loaded, self.options.warnings), (False, []))


if __name__ == "__main__":
    unittest.main()
