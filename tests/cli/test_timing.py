"""Whether the runner says where its time went."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from maestoso.cli import testing
from tests.timing import FILE, TimedTextRunner


class WhereTimeWent(unittest.TestCase):
    """The figures at the end of a run."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "times.jsonl"
        self.file.touch()
        patched = mock.patch.object(testing, "TIMES", self.file)
        patched.start()
        self.addCleanup(patched.stop)

    def test_every_test_is_written_down_with_its_class(self) -> None:
        class Example(unittest.TestCase):
            def test_one(self) -> None:
                pass

            def test_two(self) -> None:
                self.fail("also those that fail")

        suite = unittest.defaultTestLoader.loadTestsFromTestCase(Example)
        with mock.patch.dict("os.environ", {FILE: str(self.file)}):
            TimedTextRunner(stream=io.StringIO()).run(suite)
        lines = [json.loads(line) for line in self.file.read_text().splitlines()]
        self.assertEqual([line["test"] for line in lines], ["test_one", "test_two"])
        self.assertTrue(all(line["class"] == f"{__name__}.Example" for line in lines))
        self.assertTrue(all(line["took_s"] >= 0 and line["set_up_s"] >= 0 for line in lines))

    def test_the_slowest_come_first_and_classes_pay_for_what_they_set_up(self) -> None:
        rows = [("a.A", "test_x", 1.0, 9.0), ("a.A", "test_y", 2.0, 0.0), ("b.B", "test_z", 5.0, 0.5)]
        self.file.write_text(
            "".join(
                json.dumps({"class": c, "test": t, "took_s": took, "set_up_s": before}) + "\n"
                for c, t, took, before in rows
            )
        )
        said = testing._where_time_went({"core": 75.0, "e2e": 3.2}, 41.0)
        self.assertEqual(said[0], "It took 41 s. Time of the workers went: core 1 min 15 s, e2e 3 s.")
        self.assertEqual([line.split()[-1] for line in said[2:4]], ["a.A", "b.B"])
        self.assertIn("12.0 s", said[2])
        self.assertEqual(said[5].split()[-1], "b.B.test_z")

    def test_parts_without_tests_say_their_time_only(self) -> None:
        said = testing._where_time_went({"lint": 4.0}, 4.0)
        self.assertEqual(said, ["It took 4 s. Time of the workers went: lint 4 s."])


if __name__ == "__main__":
    unittest.main()
