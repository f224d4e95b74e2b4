"""Records of an earlier release: brought up to this one, or left as they were where that fails.

``tests/fixtures/release-0.7.0.tar`` is a backup of the demo of that release.
"""

from __future__ import annotations

import contextlib
import shutil
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.server.backups import archive, records
from maestoso.server.config.options import ROOT
from tests.e2e.application import Application

FIXTURE = ROOT / "tests" / "fixtures" / "release-0.7.0.tar"
PASSPHRASE = "correct horse battery"


class Old(unittest.TestCase):
    """A demo of release 0.7.0."""

    def setUp(self) -> None:
        self.app = Application(fresh=True)
        self.addCleanup(self.app.close)

    def test_a_backup_of_it_is_restored_and_all_is_there(self) -> None:
        done = self.app.command("restore", str(FIXTURE), "--demo", MAESTOSO_BACKUP_PASSPHRASE=PASSPHRASE)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.app.start()
        api = self.app.api()
        runs = api.get("/runs")["runs"]
        self.assertEqual(len(runs), 6)
        self.assertTrue(all(run["sealed"] and run["outcome"] for run in runs))
        self.assertEqual(len(api.get("/plans")["plans"]), len(api.get("/readiness")["plans"]))
        # Whoever could sign in before administers.
        (somebody,) = [one for one in api.get("/people")["people"] if one["name"] == "administrator"]
        self.assertEqual(somebody["roles"], ["administrator"])
        tried = self.app.command(
            "restore", str(FIXTURE), "--try", "--demo", MAESTOSO_BACKUP_PASSPHRASE=PASSPHRASE
        )
        self.assertIn("opens, loads, and is as it was written", tried.stdout, tried.stderr)
        checked = self.app.command_of_django("check_integrity")
        self.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)

    @contextlib.contextmanager
    def running(self) -> Iterator[Processes]:
        """Its database, for a while."""
        options = self.app.options
        processes = Processes(options, make_secrets(options), practice=False)
        with processes.only_records():
            yield processes

    def cut_off(self) -> None:
        """As one leaves it that was killed in the middle of changing the tables."""
        left = self.app.options.var / "before-upgrade"
        left.mkdir()
        with self.running() as processes:
            records.gather(self.app.options, processes.secrets, left)
            (left / "whole").touch()
            records.execute(
                self.app.options, processes.secrets, "DROP TABLE runs_runstep", self.app.options.db_name
            )

    def test_an_upgrade_that_fails_half_way_leaves_the_records_as_they_were(self) -> None:
        options = self.app.options
        options.var.mkdir(mode=0o711)
        with tempfile.TemporaryDirectory() as place:
            room = Path(place) / "content"
            room.mkdir()
            archive.unpack(FIXTURE, room, passphrase=PASSPHRASE)
            shutil.copy(room / records.SECRETS, options.var)
            shutil.copytree(room / records.KEYS, options.var / records.KEYS)
            (options.var / "log").mkdir()
            with self.running() as processes:
                records.load(options, processes.secrets, room / records.SQL, options.db_name)
                # In the way of a table that a later release makes, after others were changed.
                statement = "CREATE TABLE runs_enginebeat (id INT); INSERT INTO runs_enginebeat VALUES (7)"
                records.execute(options, processes.secrets, statement, options.db_name)
                records.dump(options, processes.secrets, Path(place) / "before.sql")
            failed = self.app.command("upgrade", "--demo")
            self.assertEqual(failed.returncode, 1, failed.stdout)
            self.assertIn("They are as before.", failed.stdout + failed.stderr)
            with self.running() as processes:
                records.dump(options, processes.secrets, Path(place) / "after.sql")
                before, after = ((Path(place) / f"{name}.sql").read_text() for name in ("before", "after"))
                self.assertEqual(before, after)
                records.execute(options, processes.secrets, "DROP TABLE runs_enginebeat", options.db_name)
        self.assertFalse((options.var / "before-upgrade").exists())
        self.cut_off()
        done = self.app.command("upgrade", "--demo")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("and are as they were written", done.stdout)
        self.app.start()
        self.assertEqual(len(self.app.api().get("/runs")["runs"]), 6)


if __name__ == "__main__":
    unittest.main()
