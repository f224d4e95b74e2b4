"""Starting, waiting, stopping, and what is left behind."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import threading
import unittest
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from maestoso.cli import __main__ as commands
from maestoso.cli import database
from maestoso.cli import processes as module
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import BELONGS, Awaited, Processes, Program
from maestoso.cli.stages import StageFailed
from maestoso.cli.supervisor import PatientFile
from maestoso.server.config.options import Options
from tests.e2e.application import until

IDLE = "import signal, sys; print('up', flush=True); signal.pause()"


class Case(unittest.TestCase):
    """An installation in a directory of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.options = replace(Options(), var=Path(folder.name) / "var", start_within_s=0)
        self.processes = Processes(self.options, make_secrets(self.options), practice=False)
        self.processes.logs.mkdir()

    def child(self, *words: str, **environment: str) -> subprocess.Popen[str]:
        """A process that waits to be ended."""
        process = subprocess.Popen(
            [sys.executable, "-c", IDLE, *words],
            env={**os.environ, **environment},
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        assert process.stdout is not None
        self.addCleanup(process.stdout.close)
        self.assertEqual(process.stdout.readline(), "up\n")
        return process


class OnThisMachine(Case):
    """What of all that there is runs here."""

    def test_only_what_the_settings_name_is_started_and_needs_ports(self) -> None:
        whole = {one.name for one in self.processes.programs()}
        self.assertEqual(whole, {"mariadb", "practice", "engine", "keeper", "web", "workers"})
        self.processes.options = replace(self.options, processes="engine, workers", db_host="127.0.0.1")
        self.assertEqual([one.name for one in self.processes.programs()], ["engine", "workers"])
        self.assertEqual(self.processes.ports(), {})
        self.assertFalse(self.processes.serves_pages())
        self.processes.options = replace(self.options, workers=0)
        self.assertNotIn("workers", {one.name for one in self.processes.programs()})


class Waiting(Case):
    """What a start says that takes too long, or that cannot succeed."""

    def wait(self, states: Iterator[list[dict[str, Any]]]) -> str:
        (self.processes.logs / "web.log").write_text("Traceback\nOSError: the port is taken\n")
        never = Awaited("web", "the web server", lambda: False)
        with (
            mock.patch.object(module, "LOOK_EVERY_S", -1.0),
            mock.patch.object(self.processes, "running", lambda: 1),
            mock.patch.object(self.processes, "states", lambda: next(states)),
            self.assertRaises(StageFailed) as caught,
        ):
            self.processes._wait_for([never])
        return str(caught.exception)

    def test_what_is_not_there_in_time_is_named_with_the_end_of_its_log(self) -> None:
        said = self.wait(iter([[{"name": "web", "start": 1}]]))
        self.assertRegex(said, r"Waited \d+ s for the web server, which did not come up")
        self.assertIn("MAESTOSO_START_WITHIN_S", said)
        self.assertIn("    OSError: the port is taken", said)

    def test_what_dies_again_and_again_is_named_with_the_end_of_its_log(self) -> None:
        self.processes.options = replace(self.options, start_within_s=10_000)
        said = self.wait([{"name": "web", "start": at}] for at in range(1, 100))
        self.assertIn("The process web died 5 times while it came up.", said)
        self.assertIn("    OSError: the port is taken", said)

    def test_what_came_up_is_waited_for_no_longer(self) -> None:
        asked: list[str] = []

        def ready() -> bool:
            asked.append("web")
            return True

        with mock.patch.object(self.processes, "running", lambda: 1):
            self.processes._wait_for([Awaited("web", "the web server", ready)])
        self.assertEqual(asked, ["web"])

    def test_a_supervisor_that_ended_is_said_at_once(self) -> None:
        (self.processes.logs / "supervisord.out").write_text("Error: no such file\n")
        self.processes.options = replace(self.options, start_within_s=10_000)
        with (
            mock.patch.object(module, "LOOK_EVERY_S", -1.0),
            self.assertRaisesRegex(StageFailed, "no such file"),
        ):
            self.processes._wait_for([Awaited("web", "the web server", lambda: False)])

    def test_what_somebody_else_starts_is_waited_for_without_a_supervisor(self) -> None:
        """As services do: the database is another one's, and may take its time."""
        self.processes.options = replace(self.options, start_within_s=10_000)
        asked: list[str] = []

        def answers(*_: Any) -> bool:
            asked.append("mariadb")
            return len(asked) > 5

        with (
            mock.patch.object(module, "LOOK_EVERY_S", -1.0),
            mock.patch.object(module.database, "answers", answers),
        ):
            self.processes.wait_for_records(supervised=False)
        self.assertEqual(len(asked), 6)


class LeftBehind(Case):
    """A supervisor that was killed leaves its processes; they are known by where they belong, not by name."""

    def test_they_are_found_and_ended_and_nobody_else_is(self) -> None:
        mine = self.child(**{BELONGS: str(self.options.var)})
        other = self.child(**{BELONGS: f"{self.options.var}-of-somebody-else"})
        self.assertEqual(self.processes.orphans(), [mine.pid])
        self.assertTrue(self.processes.stop())
        self.assertEqual(mine.wait(30), -signal.SIGTERM)
        self.assertIsNone(other.poll())
        self.assertFalse(self.processes.stop())

    def test_what_does_not_listen_is_killed(self) -> None:
        mine = self.child(**{BELONGS: str(self.options.var)})
        with mock.patch.object(module, "LONGEST_TERM_S", 0.0):
            os.kill(mine.pid, signal.SIGSTOP)
            # Until it has stopped, it would still listen.
            self.assertTrue(os.WIFSTOPPED(os.waitpid(mine.pid, os.WUNTRACED)[1]))
            self.assertEqual(self.processes.end_orphans(), 1)
        self.assertEqual(mine.wait(30), -signal.SIGKILL)

    def test_a_supervisor_is_found_whose_file_could_not_be_written(self) -> None:
        one = self.child("maestoso.cli.supervisor", "-c", str(self.processes.config))
        self.assertEqual(self.processes.running(), one.pid)
        one.kill()
        one.wait()
        self.assertIsNone(self.processes.running())

    def test_a_number_that_was_given_to_another_process_is_no_supervisor(self) -> None:
        other = self.child()
        self.processes.pid_file.parent.mkdir()
        self.processes.pid_file.write_text(str(other.pid))
        self.assertIsNone(self.processes.running())

    def test_two_starts_at_once_do_not_end_each_other(self) -> None:
        with (
            mock.patch.object(commands, "ANOTHER_ENDS_WITHIN_S", 0.0),
            commands._only_one(self.options.var),
            self.assertRaisesRegex(StageFailed, "Another"),
            commands._only_one(self.options.var),
        ):
            self.fail("two at once")

    def test_a_start_waits_for_a_launcher_that_is_about_to_end(self) -> None:
        tried = threading.Event()
        with mock.patch.object(commands.time, "sleep", lambda seconds: tried.set()):
            first = commands._only_one(self.options.var)
            first.__enter__()
            second = threading.Thread(target=lambda: commands._only_one(self.options.var).__enter__())
            second.start()
            self.assertTrue(tried.wait(20))
            first.__exit__(None, None, None)
            second.join(20)
        self.assertFalse(second.is_alive())


class FullDisk(Case):
    """Log files that cannot be written end nobody."""

    def test_a_line_that_cannot_be_written_is_lost_and_the_next_one_is_there(self) -> None:
        log = self.processes.logs / "web.log"
        log.symlink_to("/dev/full")
        handler = PatientFile(str(log), "a", 1000, 1)
        handler.setFormat("%(message)s")

        def say(text: str) -> None:
            handler.emit(mock.Mock(msg=text.encode(), kw={}))

        for number in range(50):
            say(f"lost {number}\n")
        with self.assertRaises(OSError):
            handler.stream.close()  # as a rollover that failed half-way leaves it
        log.unlink()
        say("there is room again\n")
        self.assertEqual(log.read_text(), "there is room again\n")
        handler.close()

    def test_a_supervisor_whose_logs_are_full_looks_after_its_processes_all_the_same(self) -> None:
        run = self.processes.config.parent
        run.mkdir()
        for name in ("supervisord.log", "talks.log"):
            (self.processes.logs / name).symlink_to("/dev/full")
        marks = run / "marks"
        talks = (
            "import os, signal\n"
            f"for n in range(3000): print('x' * 200)\n"
            f"open({str(marks)!r}, 'a').write(f'{{os.getpid()}} ')\n"
            "signal.pause()\n"
        )
        script = run / "talks.py"
        script.write_text(talks)
        with mock.patch.object(
            self.processes, "_configuration", lambda everything: self.configuration(script)
        ):
            self.processes.start_supervisor(everything=False)
        self.addCleanup(self.processes.stop)
        # It talked more than a pipe holds, so the supervisor went on reading; it is started again when it dies.
        until(marks.exists, "the process to have talked")
        first = int(until(lambda: marks.read_text().split(), "its number")[0])
        os.kill(first, signal.SIGKILL)
        until(lambda: len(marks.read_text().split()) == 2, "another in its place")
        self.assertIsNotNone(self.processes.running())

    def configuration(self, script: Path) -> str:
        """A supervisor with one process that talks much."""
        begin = Processes._configuration(self.processes, False).split("[program:")[0]
        program = self.processes._supervised(Program("talks", [sys.executable, str(script)], 1), True)
        return f"{begin}\n{program}"


class Again(Case):
    """A start makes nothing anew that a stamp says is there."""

    def bring_up(self) -> list[str]:
        """What a start did."""
        done: list[str] = []
        with (
            mock.patch.object(commands.front_end, "is_built", lambda: True),
            mock.patch.object(commands.front_end, "build", lambda log: None),
            mock.patch.object(commands.database, "initialise", lambda *given: None),
            mock.patch.object(commands, "django", lambda processes, name, *more: done.append(name)),
            mock.patch.object(self.processes, "start_supervisor", lambda everything: None),
            mock.patch.object(self.processes, "wait_for_records", lambda: None),
            mock.patch.object(self.processes, "wait_until_up", lambda: done.append("all at once")),
            mock.patch.object(self.processes, "start_application", lambda: done.append("one by one")),
            mock.patch.object(commands, "stage", lambda title: contextlib.nullcontext()),
        ):
            commands.bring_up(self.processes, demo=False)
        return done

    def test_the_second_start_prepares_nothing_and_one_whose_database_is_gone_prepares_all(self) -> None:
        ready = database.home(self.options.var) / "ready"
        ready.parent.mkdir()
        ready.touch()
        self.assertEqual(self.bring_up(), ["prepare", "one by one"])
        self.assertEqual(self.bring_up(), ["all at once"])
        ready.unlink()
        self.assertEqual(self.bring_up(), ["prepare", "one by one"])
        ready.touch()
        with mock.patch.object(commands, "made_from", lambda options: "of another release"):
            self.assertEqual(self.bring_up(), ["prepare", "one by one"])

    def test_a_start_at_other_ports_prepares_again_so_that_practice_sites_are_found(self) -> None:
        (database.home(self.options.var)).mkdir()
        (database.home(self.options.var) / "ready").touch()
        self.bring_up()
        self.processes.options = replace(self.options, site_port=self.options.site_port + 1)
        self.assertEqual(self.bring_up(), ["prepare", "one by one"])
        self.assertEqual(self.bring_up(), ["all at once"])


class Known(Case):
    """Who knows the token of the practice sites."""

    def test_only_the_practice_sites_have_it_in_their_environment(self) -> None:
        token = self.processes.secrets.site_token
        self.assertNotIn(token, "".join(self.processes.environment().values()))
        with_it = [
            part.split("]")[0]
            for part in self.processes._configuration(True).split("[program:")
            if token in part
        ]
        self.assertEqual(with_it, ["practice"])


if __name__ == "__main__":
    unittest.main()
