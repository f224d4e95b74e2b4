"""A takeover, cut off anywhere: it is done by whoever comes next, or it was not begun."""

from __future__ import annotations

import contextlib
import io
import tempfile
import unittest
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from maestoso.cli import standby
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.stages import StageFailed
from maestoso.server.config.options import Options
from maestoso.server.config.standby import Standby, read_standby, write_standby

BEGUN = Standby(host="m.tidewell.example", port=8475, since="2026-11-01T10:00:00+00:00", position="0-1-9")


class Killed(BaseException):
    """The process ends here, without a word."""


class Takeover(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.options = replace(Options(), var=Path(folder.name))
        write_standby(self.options.var, BEGUN)
        self.processes = Processes(self.options, make_secrets(self.options), practice=False)
        self.did: list[str] = []
        self.ends: BaseException | None = None
        self.enter(mock.patch.object(standby.replication, "stop_following", self.stop_following))
        self.enter(mock.patch.object(standby.database, "administrator", self.line))
        self.enter(mock.patch.object(standby.database, "answers", return_value=True))
        self.enter(mock.patch.object(standby, "_tell"))
        self.enter(contextlib.redirect_stdout(io.StringIO()))

    def enter(self, context: Any) -> None:
        """For the whole test."""
        context.__enter__()
        self.addCleanup(context.__exit__, None, None, None)

    @contextlib.contextmanager
    def line(self, *_: object) -> Iterator[mock.MagicMock]:
        """A line to no database."""
        yield mock.MagicMock()

    def stop_following(self, _: object) -> None:
        """What has arrived is taken in, or that ends as the test wants."""
        self.did.append("stop")
        if self.ends is not None:
            raise self.ends

    def django(self, _: Processes, *arguments: str) -> None:
        """A command of Django's."""
        self.did.append(" ".join(arguments))
        # It is a standby until the reign has begun: a process that is started before would be one of the old reign.
        self.assertIsNotNone(read_standby(self.options.var))

    def kept(self) -> Standby:
        """What is written down."""
        found = read_standby(self.options.var)
        assert found is not None
        return found

    def took_over(self) -> bool:
        """What a launcher and services do again and again."""
        return standby.took_over(self.processes, self.django)

    def test_nothing_happens_before_somebody_says_so(self) -> None:
        self.assertFalse(self.took_over())
        self.assertEqual(self.did, [])

    def test_what_was_said_on_the_page_is_done_once(self) -> None:
        write_standby(self.options.var, replace(BEGUN, taking_over=True, by="ann"))
        self.assertTrue(self.took_over())
        self.assertTrue(self.took_over())
        self.assertEqual(self.did, ["stop", "begin_reign --by=ann --did=Take over from m.tidewell.example"])

    def test_what_cannot_be_taken_in_leaves_a_standby_that_says_why(self) -> None:
        self.ends = StageFailed("What has arrived cannot be taken in: Duplicate entry.")
        with self.assertRaisesRegex(StageFailed, "Duplicate entry"):
            standby.take_over(self.options, True, self.django)
        self.assertEqual((self.kept().taking_over, self.did), (False, ["stop"]))
        self.assertIn("Duplicate entry", self.kept().failed)
        self.ends = None
        self.assertEqual(standby.take_over(self.options, True, self.django), 0)
        self.assertIsNone(read_standby(self.options.var))

    def test_one_that_was_killed_in_the_middle_is_ended_by_the_next_start(self) -> None:
        def killed(_: Processes, *arguments: str) -> None:
            raise Killed

        with self.assertRaises(Killed):
            standby.take_over(self.options, True, killed)
        self.assertTrue(self.kept().taking_over)
        # It does not follow anew: there is nothing to go back to.
        self.assertEqual(standby.begin_to_follow(self.processes, self.kept()), "It takes over.")
        self.assertTrue(self.took_over())
        self.assertEqual(self.did[-1], "begin_reign --by= --did=Take over from m.tidewell.example")

    def test_a_reign_that_could_not_be_begun_is_begun_by_the_next_try(self) -> None:
        def fails(_: Processes, *arguments: str) -> None:
            raise StageFailed("The database is away.")

        with self.assertRaisesRegex(StageFailed, "Say it again"):
            standby.take_over(self.options, True, fails)
        self.assertTrue(self.took_over())

    def test_nobody_takes_over_without_the_words(self) -> None:
        self.assertEqual(standby.take_over(self.options, False, self.django), 1)
        self.assertEqual((self.kept(), self.did), (BEGUN, []))


if __name__ == "__main__":
    unittest.main()
