"""The runner of the tests: what it runs, in which order, what it counts and shows."""

from __future__ import annotations

import contextlib
import io
import json
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from maestoso.cli import testing
from maestoso.cli.arguments import PARTS
from maestoso.cli.testing import FRONT_END, WORLD, Job, Queue
from maestoso.server.config.options import Options
from tests.ports import BLOCK, FIRST_PORT, free_ports

SAYS = "import sys, unittest\nprint('{0} begins'); print('{0} ends')\n"
TESTS = """
import unittest
class Some(unittest.TestCase):
    def test_good(self): pass
    def test_bad(self): self.fail()
    @unittest.expectedFailure
    def test_known(self): self.fail()
unittest.main()
"""


class Counting(unittest.TestCase):
    """By the last lines of unittest."""

    def test_what_unittest_says(self) -> None:
        for said, status, wanted in (
            ("Ran 5 tests in 1.2s\n\nOK", 0, (5, 0, 0)),
            ("Ran 1 test in 1.2s\n\nOK", 0, (1, 0, 0)),
            ("Ran 5 tests in 1.2s\n\nFAILED (failures=1, errors=2)", 1, (2, 3, 0)),
            ("Ran 5 tests in 1.2s\n\nOK (expected failures=4)", 0, (1, 0, 4)),
            ("Ran 5 tests in 1.2s\n\nFAILED (expected failures=4, unexpected successes=1)", 1, (0, 1, 4)),
            ("Traceback: it broke while it was loaded", 1, (0, 1, 0)),
            ("Ran 0 tests in 0.0s\n\nOK", 0, (0, 1, 0)),
            ("Ran 5 tests in 1.2s\n\nOK", -9, (4, 1, 0)),
        ):
            with self.subTest(said):
                found = testing.counted(said, status)
                self.assertEqual((found.passed, found.failed, found.known), wanted)


class Choosing(unittest.TestCase):
    """What is named is what runs."""

    def names(self, *only: str) -> list[str]:
        return [job.name for job in testing._jobs(only, [])]

    def test_nothing_is_made_for_what_needs_nothing(self) -> None:
        self.assertNotIn(WORLD, self.names("lint", "core"))
        self.assertEqual(self.names("web")[0], FRONT_END)
        self.assertEqual(self.names("server")[0], WORLD)

    def test_one_test_by_its_name_belongs_to_its_part(self) -> None:
        name = "tests.e2e.test_live.TheWorstDay"
        *made, job = testing._jobs([name], ["-v"])
        self.assertEqual([one.name for one in made], [FRONT_END, WORLD])
        self.assertEqual((job.part, job.command[-2:]), ("e2e", [name, "-v"]))
        (job,) = testing._jobs(["tests.core.runs.test_runs"], [])
        self.assertEqual(job.part, "core")

    def test_what_there_is_not_is_said(self) -> None:
        for name in ("everything", "tests", "tests.nowhere.test_x", "maestoso.cli"):
            with self.subTest(name):
                error = io.StringIO()
                with contextlib.redirect_stderr(error):
                    self.assertEqual(testing.test([name]), 2)
                parts = "lint, web, core, server, e2e, guests"
                self.assertIn(f"There is no {name!r}. Name parts ({parts})", error.getvalue())

    def test_where_no_real_machine_can_run_their_part_is_left_out_and_said(self) -> None:
        why = mock.patch.object(testing.ready, "why_not", return_value="There is no hypervisor.")
        error, out = io.StringIO(), io.StringIO()
        with why, contextlib.redirect_stderr(error):
            self.assertEqual(testing.test(["guests"]), 2)
        self.assertIn("There is no hypervisor.", error.getvalue())
        queue = mock.patch.object(testing, "Queue")
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        # Not those of the run that this test is a part of.
        times = mock.patch.object(testing, "TIMES", Path(folder.name) / "times.jsonl")
        with why, queue as made, times, contextlib.redirect_stdout(out):
            made.return_value.run.return_value = testing.Tally()
            testing.test([])
        self.assertNotIn("guests", {job.part for job in made.call_args.args[0]})
        self.assertIn("Without the tests with real machines. There is no hypervisor.", out.getvalue())

    def test_every_module_of_tests_is_run_once(self) -> None:
        root = Path(testing.ROOT) / "tests"
        there = {
            ".".join(file.relative_to(testing.ROOT).with_suffix("").parts) for file in root.rglob("test_*.py")
        }
        named = [
            word for job in testing._jobs(PARTS, []) for word in job.command if word.startswith("tests.")
        ]
        modules = [word for word in named if ".test_" in word]
        self.assertEqual(sorted(modules), sorted(there))

    def test_workers_have_about_the_same_to_do_and_the_unknown_comes_first(self) -> None:
        measured = {"a": 50.0, "b": 30.0, "c": 25.0, "d": 20.0, "e": 1.0, "tests.cli.test_testing": 9.0}
        with mock.patch.object(testing, "_measured", lambda: measured):
            self.assertEqual(testing._spread(["a", "b", "c", "d", "e"]), [["a"], ["b", "e"], ["c", "d"]])
            self.assertEqual(testing._spread(["a"]), [["a"]])
            self.assertIn("tests.core.test_codec", testing._modules("core")[:-1])

    def test_of_the_browser_and_real_machines_the_longest_begins_first(self) -> None:
        names = [name for part in testing.ALONE for name in testing._modules(part)]
        measured = {**dict.fromkeys(names, 1.0), "tests.guests.test_story": 3.0, "tests.e2e.test_live": 2.0}
        with mock.patch.object(testing, "_measured", lambda: measured):
            jobs = [job.name for job in testing._jobs(PARTS, [])]
        self.assertLess(jobs.index("server 1 of 3"), jobs.index("tests.guests.test_story"))
        self.assertEqual(jobs.index("tests.e2e.test_live"), jobs.index("tests.guests.test_story") + 1)


class Working(unittest.TestCase):
    """Workers, needs, output."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        patched = mock.patch.object(testing, "TIMES", Path(folder.name) / "times.jsonl")
        patched.start()
        self.addCleanup(patched.stop)

    def job(self, name: str, code: str, **more: object) -> Job:
        return Job(part="core", name=name, command=[sys.executable, "-c", code], **more)  # type: ignore[arg-type]

    def run_all(self, *jobs: Job, workers: int = 2) -> tuple[testing.Tally, str]:
        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            tally = Queue(list(jobs), workers).run()
        return tally, out.getvalue()

    def test_what_a_job_prints_is_shown_whole(self) -> None:
        jobs = [self.job(f"j{n}", SAYS.format(f"j{n}") + "raise SystemExit(1)") for n in range(6)]
        tally, said = self.run_all(*jobs)
        self.assertEqual((tally.passed, tally.failed), (0, 6))
        for n in range(6):
            self.assertRegex(said, rf"core: j{n}: FAILED \(\d+ s\)\nj{n} begins\nj{n} ends\n")

    def test_tests_are_counted_and_known_faults_pass(self) -> None:
        tally, said = self.run_all(self.job("some", TESTS, tests=True))
        self.assertEqual((tally.passed, tally.failed, tally.known), (1, 1, 1))
        self.assertIn("core: some: 1 passed, 1 failed", said)

    def test_what_failed_is_said_once_more_with_its_last_error(self) -> None:
        code = """
import unittest
class Some(unittest.TestCase):
    def test_bad(self):
        try:
            self.fail("the page stayed\\n- a long picture of it")
        except AssertionError:
            self.fail("No run began. It says: a run is in the way.\\nWait.")
    def test_broken(self): open("/nowhere")
    def test_good(self): pass
unittest.main()
"""
        tally, _ = self.run_all(self.job("some", code, tests=True), self.job("check", "raise SystemExit(1)"))
        said = "\n".join(tally.why)
        self.assertIn("  core: check", tally.why)
        self.assertIn(
            "FAIL: test_bad (__main__.Some.test_bad)\n    AssertionError: No run began. It says: a run is in the way.\n    Wait.",
            said,
        )
        self.assertIn(
            "ERROR: test_broken (__main__.Some.test_broken)\n    FileNotFoundError: [Errno 2]", said
        )
        self.assertNotIn("picture", said)
        self.assertNotIn("test_good", said)
        dead = self.job("dead", "print('no test began'); raise SystemExit(3)", tests=True)
        self.assertEqual(self.run_all(dead)[0].why, ["  core: dead"])

    def test_what_needs_what_could_not_be_made_is_not_run_and_counts_as_failed(self) -> None:
        made = Job(part="set-up", name=WORLD, command=[sys.executable, "-c", "raise SystemExit('no room')"])
        needs = self.job("server", SAYS.format("x"), needs=frozenset({WORLD}))
        tally, said = self.run_all(made, needs, self.job("other", "pass"))
        self.assertEqual((tally.passed, tally.failed), (1, 2))
        self.assertIn("no room", said)
        self.assertIn(f"core: server: FAILED (0 s)\nNot run: there is no {WORLD}.", said)
        self.assertNotIn("x begins", said)
        _, said = self.run_all(made, needs, workers=1)
        self.assertIn(f"== core: server\nNot run: there is no {WORLD}.\n-- FAILED (0 s)", said)

    def test_what_needs_something_waits_for_it(self) -> None:
        slow = "import time, threading; threading.Event().wait(0.3); print('made')"
        made = Job(part="set-up", name=WORLD, command=[sys.executable, "-c", slow])
        first = self.job("first", "raise SystemExit('first')", needs=frozenset({WORLD}))
        _, said = self.run_all(first, made, self.job("second", "raise SystemExit('second')"))
        order = [said.index(text) for text in ("core: second", f"set-up: {WORLD}", "core: first")]
        self.assertEqual(order, sorted(order))

    def test_one_worker_shows_it_as_it_comes_and_each_has_ports_of_its_own(self) -> None:
        code = "import os; print('worker', os.environ['MAESTOSO_TEST_WORKER'])"
        _, said = self.run_all(self.job("one", code), workers=1)
        self.assertRegex(said, r"== core: one\nworker \d+\n-- ok \(\d+ s\)\n")
        wait = "import os, threading; threading.Event().wait(0.3); print('worker', os.environ['MAESTOSO_TEST_WORKER']); raise SystemExit(1)"
        _, said = self.run_all(self.job("one", wait), self.job("two", wait))
        found = {line for line in said.splitlines() if line.startswith("worker ")}
        self.assertEqual(len(found), 2)


class Ports(unittest.TestCase):
    """What tests listen at."""

    def test_a_block_is_nobody_elses_before_anything_listens_there(self) -> None:
        code = (
            "import sys; from tests.ports import Options, free_ports;"
            " print(free_ports(Options(), 3).web_port, flush=True); sys.stdin.read()"
        )
        with subprocess.Popen(
            [sys.executable, "-c", code],
            cwd=testing.ROOT,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        ) as other:
            assert other.stdout is not None
            theirs = int(other.stdout.readline())
            block = (theirs - FIRST_PORT) // BLOCK
            mine = free_ports(Options(), 3, first=block).web_port
            other.communicate("")
        self.assertNotEqual(mine, theirs)
        self.assertEqual(free_ports(Options(), 3, first=block).web_port, theirs)


class Measured(unittest.TestCase):
    """What is written down for the next run."""

    def test_seconds_by_module(self) -> None:
        from tests import measured

        with tempfile.TemporaryDirectory() as folder:
            times, kept = Path(folder) / "times.jsonl", Path(folder) / "measured.json"
            rows = [
                ("tests.a.test_x.One", 1.04, 2.0),
                ("tests.a.test_x.Two", 1.0, 0.0),
                ("tests.b.test_y.Z", 0.2, 0.0),
            ]
            times.write_text(
                "".join(
                    json.dumps({"class": c, "test": "t", "took_s": t, "set_up_s": s}) + "\n"
                    for c, t, s in rows
                )
            )
            with mock.patch.object(measured, "TIMES", times), mock.patch.object(measured, "MEASURED", kept):
                measured.main()
            self.assertEqual(json.loads(kept.read_text()), {"tests.a.test_x": 4.0, "tests.b.test_y": 0.2})


if __name__ == "__main__":
    unittest.main()
