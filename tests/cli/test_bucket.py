"""A backup is in a bucket and comes back from there on a machine that knows nothing but its settings."""

from __future__ import annotations

import contextlib
import io
import os
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from maestoso.cli.backups import from_bucket
from maestoso.cli.stages import StageFailed
from maestoso.engine.clock import SystemClock
from maestoso.server.backups.archive import BackupFailed
from maestoso.server.backups.bucket import Bucket
from maestoso.server.config.exposure import faults
from maestoso.server.config.options import Options
from tests.object_store import REGION, SECRET, USER, ObjectStore

LARGE = 11 * 2**20
"""More than goes there in one piece."""


class InAStore(unittest.TestCase):
    """A store with a bucket, and settings that name it."""

    def setUp(self) -> None:
        self.store = ObjectStore("backups")
        self.addCleanup(self.store.close)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "secret").write_text(SECRET)
        self.options = replace(
            Options(), backup_folder=folder.name, backup_recipient="age1x", backup_bucket=f"{self.store.address}/backups/ours",
            backup_bucket_key=USER, backup_bucket_region=REGION, backup_bucket_secret_file=str(self.folder / "secret"),
        )  # fmt: skip

    def said(self, name: str = "", folder: str = "") -> str:
        """What ``./maestoso backup --list`` or ``--fetch`` prints."""
        with contextlib.redirect_stdout(io.StringIO()) as out:
            self.assertEqual(from_bucket(self.options, name, folder), 0)
        return out.getvalue()

    def test_what_is_large_goes_there_and_comes_back_byte_by_byte(self) -> None:
        file = self.folder / "maestoso-1.tar"
        file.write_bytes(os.urandom(LARGE))
        Bucket(self.options).put(file)
        self.assertEqual(self.store.objects["backups"]["ours/maestoso-1.tar"], file.read_bytes())
        (self.folder / "back").mkdir()
        self.assertIn("./maestoso restore", self.said("maestoso-1.tar", str(self.folder / "back")))
        self.assertEqual((self.folder / "back" / "maestoso-1.tar").read_bytes(), file.read_bytes())
        with self.assertRaisesRegex(BackupFailed, "is there already"):
            self.said("maestoso-1.tar", str(self.folder / "back"))

    def test_the_newest_is_listed_first_and_only_what_is_in_the_folder(self) -> None:
        self.assertIn("Nothing is in", self.said())
        for name in ("ours/maestoso-1.tar", "ours/maestoso-2.tar", "others/maestoso-3.tar", "maestoso-4.tar"):
            self.store.objects["backups"][name] = b"12345"
        self.assertEqual(self.said().splitlines(), ["maestoso-2.tar  5 bytes", "maestoso-1.tar  5 bytes"])

    def test_what_is_not_there_leaves_nothing(self) -> None:
        with self.assertRaisesRegex(BackupFailed, "NoSuchKey: Object does not exist"):
            self.said("maestoso-9.tar", str(self.folder))
        with self.assertRaisesRegex(BackupFailed, "no name of a file"):
            self.said("../secret", str(self.folder))
        with self.assertRaisesRegex(StageFailed, "There is no folder"):
            self.said("maestoso-9.tar", str(self.folder / "nowhere"))
        self.assertEqual(os.listdir(self.folder), ["secret"])
        self.options = Options()
        with self.assertRaisesRegex(StageFailed, "No bucket is named"):
            self.said()

    def test_settings_that_cannot_be_used_are_said_before_anything_starts(self) -> None:
        def wrong(**given: str) -> list[str]:
            now = SystemClock().now()
            return [fault.setting for fault in faults(replace(self.options, **given), now) if not fault.stop]

        self.assertEqual(wrong(), [])
        for address in (
            "store",
            "ftp://store.example/b",
            "https://store.example",
            "https://a:b@store.example/b",
            "http://store.example/b",
        ):
            self.assertEqual(wrong(backup_bucket=address), ["backup_bucket"], address)
        self.assertEqual(wrong(backup_bucket="https://store.example/b"), [])
        self.assertEqual(wrong(backup_bucket_key=""), ["backup_bucket_key"])
        self.assertEqual(wrong(backup_bucket_secret_file=""), ["backup_bucket_secret_file"])
        self.assertEqual(wrong(backup_bucket_ca="/nowhere.pem"), ["backup_bucket_ca"])
        self.assertEqual(wrong(backup_folder="", backup_recipient=""), ["backup_bucket"])


if __name__ == "__main__":
    unittest.main()
