"""Processes that begin as copies of the supervisor are what ``python -m`` would have made them."""

from __future__ import annotations

import json
import os
import signal
import sys
import tempfile
import unittest
from collections.abc import Callable
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

    def setUp(self) -> None:
        self.options = Options()

    def copy(self, what: Callable[[], object]) -> tuple[str, str, int]:
        """What a copy prints that does this, to either end, and its status; minus the signal that ended it."""
        with tempfile.TemporaryFile("w+") as out, tempfile.TemporaryFile("w+") as wrong:
            pid = self.options.fork()
            if pid == 0:
                try:
                    os.dup2(out.fileno(), 1)
                    os.dup2(wrong.fileno(), 2)
                    sys.stdout, sys.stderr = open(1, "w"), open(2, "w")  # noqa: SIM115
                    what()
                finally:
                    os._exit(99)
            _, status = os.waitpid(pid, 0)
            out.seek(0)
            wrong.seek(0)
            return out.read(), wrong.read(), os.waitstatus_to_exitcode(status)

    def become(self, *arguments: str, **environment: str) -> tuple[str, str, int]:
        """A copy that becomes :mod:`tests.cli.forked`."""
        return self.copy(lambda: forking.become("engine", "tests.cli.forked", list(arguments), environment))

    def test_it_has_the_arguments_and_the_environment_of_the_command_line_and_a_name(self) -> None:
        said, wrong, status = self.become("returns", "--port", "80", SPT_NOENV="1", COLOUR="grey")
        self.assertEqual((wrong, status), ("", 0))
        self.assertEqual(
            json.loads(said.splitlines()[0]),
            {
                "arguments": ["returns", "--port", "80"],
                "file": str(ROOT / "tests" / "cli" / "forked.py"),
                "environment": {"SPT_NOENV": "1", "COLOUR": "grey"},
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
        _, wrong, status = self.copy(lambda: forking.become("engine", "tests.cli.nothing", [], {}))
        self.assertEqual(status, 1)
        self.assertIn("tests.cli.nothing", wrong)

    def test_a_signal_right_after_its_beginning_is_for_it_and_not_for_handlers_of_the_supervisor(
        self,
    ) -> None:
        heard: list[int] = []
        before = signal.signal(signal.SIGTERM, lambda number, frame: heard.append(number))
        self.addCleanup(signal.signal, signal.SIGTERM, before)
        self.assertEqual(self.copy(lambda: os.kill(os.getpid(), signal.SIGTERM))[2], -signal.SIGTERM)
        os.kill(os.getpid(), signal.SIGTERM)
        self.assertEqual(heard, [signal.SIGTERM])

    def test_other_programs_and_all_that_an_unloaded_supervisor_starts_are_programs_of_their_own(
        self,
    ) -> None:
        python = [sys.executable, "-m", "tests.cli.forked", "0"]
        environment = {**os.environ, "SUPERVISOR_PROCESS_NAME": "engine"}
        for loaded, argv in ((True, ["/bin/echo", "-m", "here"]), (False, python)):
            self.options._loaded = loaded
            said, _, status = self.copy(lambda argv=argv: self.options.execve(argv[0], argv, environment))
            self.assertEqual(status, 0)
            self.assertIn("here" if loaded else sys.executable, said)
        self.options._loaded = True
        said = self.copy(lambda: self.options.execve(python[0], python, environment))[0]
        self.assertIn('"title": "maestoso: engine"', said)


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
        self.options.load()
        self.assertEqual((self.options._loaded, self.options.warnings), (False, []))
        self.assertNotIn("maestoso.server.config.preload", sys.modules)


if __name__ == "__main__":
    unittest.main()
