"""What a start says while it works."""

from __future__ import annotations

import io
import json
import sys
import tempfile
import unittest
from pathlib import Path

from maestoso.cli.stages import Progress, StageFailed, last_lines, run, seconds, together


class Case(unittest.TestCase):
    """A progress with a clock that stands still until it is moved."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.now = 0.0
        self.out = io.StringIO()
        self.progress = self.fresh()

    def fresh(self) -> Progress:
        return Progress(self.out, lambda: self.now, self.folder / "stages.json")


class Saying(Case):
    """Each stage says what it does, for how long, and about how much is left."""

    def test_a_stage_says_what_it_does_and_how_long_it_took(self) -> None:
        with self.progress.stage("Python packages"):
            self.now = 12.0
            self.assertEqual(self.progress.now(), "Python packages, 12 s, about 33 s left")
            self.now = 80.0
            self.assertEqual(self.progress.now(), "Python packages, 1 min 20 s, longer than usual")
        said = self.out.getvalue()
        self.assertIn("  Python packages ... about 45 s left\n", said)
        self.assertIn("  Python packages: done in 1 min 20 s.\n", said)

    def test_stages_that_overlap_are_said_together(self) -> None:
        with self.progress.stage("Front end"), self.progress.stage("Tables"):
            self.now = 2.0
            self.assertEqual(
                self.progress.now(), "Front end, 2 s, about 3 s left; Tables, 2 s, about 4 s left"
            )

    def test_a_slow_machine_is_told_by_its_first_stage(self) -> None:
        with self.progress.stage("Virtual environment"):
            self.now = 80.0  # ten times what is expected
        with self.progress.stage("Front end"):
            self.assertEqual(self.progress.now(), "Front end, 0 s, about 50 s left")

    def test_what_a_stage_took_here_counts_the_next_time(self) -> None:
        with self.progress.stage("Something new"):
            self.assertEqual(self.progress.now(), "Something new, 0 s")
            self.now = 30.0
        again = self.fresh()
        with again.stage("Something new"):
            self.assertEqual(again.now(), "Something new, 0 s, about 30 s left")

    def test_a_stage_that_failed_does_not_say_that_it_is_done(self) -> None:
        with self.assertRaises(StageFailed), self.progress.stage("Front end"):
            self.now = 3.0
            raise StageFailed("no")
        self.assertIn("Front end: stopped after 3 s.", self.out.getvalue())
        self.assertFalse((self.folder / "stages.json").exists())

    def test_a_broken_record_of_earlier_times_is_no_trouble(self) -> None:
        for text in ("{", "[1]", "null"):
            (self.folder / "stages.json").write_text(text)
            with self.subTest(text):
                with self.fresh().stage("Front end"):
                    self.now += 1.0
                self.assertIn("Front end", json.loads((self.folder / "stages.json").read_text()))

    def test_durations_are_said_as_people_say_them(self) -> None:
        self.assertEqual(
            [seconds(v) for v in (-1, 0.4, 59.4, 60, 3661)], ["0 s", "0 s", "59 s", "1 min 0 s", "61 min 1 s"]
        )


class Failing(Case):
    """A stage that failed shows the last lines of its log."""

    def test_a_command_that_failed_is_named_with_the_end_of_what_it_said(self) -> None:
        log = self.folder / "deep" / "setup.log"
        with self.assertRaises(StageFailed) as caught:
            run(
                [sys.executable, "-c", "print('one'); print('two'); raise SystemExit(3)"],
                log,
                cwd=self.folder,
            )
        self.assertIn("    one\n    two", str(caught.exception))
        self.assertIn(str(log), str(caught.exception))

    def test_only_the_end_of_a_long_log_is_shown(self) -> None:
        log = self.folder / "long.log"
        log.write_text("".join(f"line {n}\n" for n in range(100_000)))
        shown = last_lines(log)
        self.assertEqual(len(shown.splitlines()), 12)
        self.assertTrue(shown.endswith("    line 99999"))

    def test_of_several_at_once_the_failure_is_told_when_all_have_ended(self) -> None:
        done = []

        def fails() -> None:
            raise StageFailed("the first")

        with self.assertRaisesRegex(StageFailed, "the first"):
            together(fails, lambda: done.append(1))
        self.assertEqual(done, [1])


if __name__ == "__main__":
    unittest.main()
