"""A backup that is made while a run goes on, tried, and restored after its machine was lost."""

from __future__ import annotations

import shutil
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path

from tests.e2e.application import Api, Application, until

PASSPHRASE = {"MAESTOSO_BACKUP_PASSPHRASE": "correct horse battery"}
PACE = 10
UNDER_WAY = ("bring-up", "judge")


class AfterTheFire(unittest.TestCase):
    """The machine is lost in the middle of a run; what was done since the backup is known to the sites alone."""

    def test_the_run_goes_on_elsewhere_and_nothing_is_done_twice(self) -> None:
        lost = Application()
        self.addCleanup(lost.close)
        lost.start()
        api = lost.api()
        run = api.start_test("HARB", PACE)
        until(lambda: self.at(api, run)[1] in UNDER_WAY, "the first wave")
        known = self.at(api, run)[0]
        folder = lost.folder / "backups"
        folder.mkdir()
        made = lost.command("backup", "--demo", "--to", str(folder), **PASSPHRASE)
        self.assertEqual(made.returncode, 0, made.stderr)
        (file,) = folder.iterdir()
        self.assertIn(str(file), made.stdout)

        wrong = lost.command(
            "restore", str(file), "--try", "--demo", MAESTOSO_BACKUP_PASSPHRASE="not that one"
        )
        self.assertEqual(wrong.returncode, 1)
        self.assertIn("This is not the passphrase of the backup.", wrong.stderr)
        tried = lost.command("restore", str(file), "--try", "--demo", **PASSPHRASE)
        self.assertEqual(tried.returncode, 0, tried.stderr)
        self.assertIn("opens, loads, and is as it was written", tried.stdout)
        there = lost.command("restore", str(file), "--demo", **PASSPHRASE)
        self.assertEqual(there.returncode, 1)
        self.assertIn("There is an installation in", there.stderr)

        # On a machine that is slow just now it may be at its verdict already.
        until(
            lambda: self.at(api, run)[0] > known + 8 or self.at(api, run)[1] == "judge",
            "the run to get ahead of the backup",
        )  # fmt: skip
        lost.close_down()

        found = self.elsewhere(lost, file)
        api = found.api()
        # The row of the run says that nobody with a lower fence conducts it.
        self.assertGreater(found.records()["runs_run"][-1]["fence"], 2**20)
        until(lambda: (api.status(run) or {}).get("phase") == "judge", "the verdict to be asked for")
        body = {"kind": "verdict", "verdict": "passed", "text": "after the fire"}
        api.send("POST", f"/runs/{run}/controls", body)
        until(lambda: (api.status(run) or {}).get("phase") == "finished", "the end")
        status = api.status(run)
        self.assertEqual((status["outcome"], status["remains"]), ("passed", []))
        mine = f"{found.secrets['instance']}-{run}:"
        keys = Counter(
            entry["key"] for entry in found.site("/journal")["entries"] if entry["key"].startswith(mine)
        )
        self.assertGreater(len(keys), 20)
        self.assertEqual([key for key, times in keys.items() if times > 1], [])
        checked = found.command_of_django("check_integrity")
        self.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)

    def at(self, api: Api, run: int) -> tuple[int, str]:
        """How far a run is: its last event, and its phase."""
        status = api.status(run) or {"seq": 0, "phase": ""}
        return status["seq"], status["phase"]

    def elsewhere(self, lost: Application, file: Path) -> Application:
        """The backup, restored on another machine; the sites are as they are now."""
        found = Application()
        self.addCleanup(found.close)
        found.options = replace(lost.options, var=found.options.var)
        done = found.command("restore", str(file), "--demo", **PASSPHRASE)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("A run was under way then", done.stdout)
        self.assertEqual((found.options.var / "secrets.json").stat().st_mode & 0o777, 0o600)
        shutil.copytree(lost.options.var / "sites", found.options.var / "sites", dirs_exist_ok=True)
        found.start()
        return found


if __name__ == "__main__":
    unittest.main()
