"""A backup that somebody wants now; what cannot be restored, and why it is said."""

from __future__ import annotations

import os
import unittest
from dataclasses import replace
from typing import Any

from playwright.sync_api import expect

from maestoso.server.backups.archive import make_key
from tests.e2e.application import Application, module_browser, visit
from tests.object_store import REGION, SECRET, USER, ObjectStore

BROWSER: dict[str, Any] = {}


def setUpModule() -> None:
    """The browser of this module."""
    BROWSER["browser"] = module_browser()


class NotRestored(unittest.TestCase):
    """What cannot be restored leaves nothing."""

    def refused(self, app: Application, *arguments: str, **more: str) -> str:
        """What is said; and that nothing is installed afterwards."""
        done = app.command("restore", *arguments, **more)
        self.assertEqual(done.returncode, 1, done.stdout)
        self.assertFalse((app.options.var / "secrets.json").exists())
        return done.stderr

    def test_no_backup_a_wrong_key_and_nobody_to_ask(self) -> None:
        app: Any = Application(fresh=True)
        self.addCleanup(app.close)
        self.assertIn("cannot be read", self.refused(app, "/nowhere/backup.tar"))
        text = app.folder / "text.tar"
        text.write_text("nothing")
        self.assertIn("is no backup of Maestoso", self.refused(app, str(text)))
        said = app.command("backup", "--make-key", str(app.folder / "private"))
        self.assertEqual(said.returncode, 0, said.stderr)
        self.assertIn('backup_recipient = "age1', said.stdout)
        again = app.command("backup", "--make-key", str(app.folder / "private"))
        self.assertIn("is there already", again.stderr)
        nothing = app.command("backup", "--to", str(app.folder))
        self.assertIn("Nothing is installed in", nothing.stderr)
        self.assertEqual(os.listdir(app.folder).count("backups"), 0)


class FromThePage(unittest.TestCase):
    def test_one_is_made_when_somebody_presses(self) -> None:
        app = Application()
        self.addCleanup(app.close)
        folder = app.folder / "backups"
        folder.mkdir()
        public = make_key(app.folder / "private")
        store = ObjectStore("backups")
        self.addCleanup(store.close)
        secret = app.folder / "secret"
        secret.write_text(SECRET)
        app.options = replace(
            app.options, backup_folder=str(folder), backup_recipient=public, backup_bucket=f"{store.address}/backups",
            backup_bucket_key=USER, backup_bucket_region=REGION, backup_bucket_secret_file=str(secret),
        )  # fmt: skip
        app.start()
        page = visit(self, app, BROWSER["browser"])
        page.goto(f"{app.address}/settings/backups")
        # The first comes by itself; nobody need wait for its turn.
        expect(page.get_by_role("row").filter(has_text="keeper")).to_be_visible()
        page.get_by_role("button", name="Back up now").click()
        expect(page.get_by_role("row").filter(has_text="administrator")).to_be_visible()
        expect(page.get_by_role("button", name="Back up now")).to_be_enabled()
        expect(page.get_by_role("row").filter(has_text="administrator")).to_contain_text("since")
        self.assertEqual({one.name: one.read_bytes() for one in folder.iterdir()}, store.objects["backups"])


if __name__ == "__main__":
    unittest.main()
