"""What cannot be restored, and why it is said."""

from __future__ import annotations

import os
import unittest
from typing import Any

from tests.e2e.application import Application


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


if __name__ == "__main__":
    unittest.main()
