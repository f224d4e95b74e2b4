"""The file of a backup: what locks it, what opens it, and what is said of one that is damaged."""

from __future__ import annotations

import io
import json
import tarfile
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyrage

from maestoso.server.backups.archive import (
    ABOUT,
    CONTENT,
    BackupFailed,
    Lock,
    _take_out,
    make_key,
    needs_passphrase,
    read_about,
    unpack,
    write,
)

PASSPHRASE = "correct horse battery"


class Files(unittest.TestCase):
    """A folder with something to keep."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.file = self.folder / "backup.tar"
        self.kept = self.folder / "kept"
        (self.kept / "keys").mkdir(parents=True)
        (self.kept / "records.sql").write_text("INSERT INTO plans VALUES ('the secret plan');" * 1000)
        (self.kept / "keys" / "one.json").write_text("{}")

    def write(self, **lock: str) -> None:
        """Make the backup."""
        write(self.file, self.kept, Lock(**lock), "0.8.0", "2026-11-30T08:00:00+00:00")

    def opened(self, **given: str) -> dict[str, str]:
        """What comes out of it, by its path."""
        with tempfile.TemporaryDirectory(dir=self.folder) as place:
            out = Path(place) / "out"
            out.mkdir()
            unpack(self.file, out, **given)
            return {str(one.relative_to(out)): one.read_text() for one in out.rglob("*") if one.is_file()}

    def refused(self, **given: str) -> str:
        """What is said of a backup that does not open."""
        with self.assertRaises(BackupFailed) as caught:
            self.opened(**given)
        self.assertTrue(caught.exception.remedy)
        return caught.exception.sentence

    def replace(self, name: str, data: bytes) -> None:
        """Put another file into the tar."""
        with tarfile.open(self.file) as old:
            parts = {entry.name: old.extractfile(entry).read() for entry in old.getmembers()}  # type: ignore[union-attr]
        parts[name] = data
        with tarfile.open(self.file, "w") as new:
            for one, text in parts.items():
                entry = tarfile.TarInfo(one)
                entry.size = len(text)
                new.addfile(entry, io.BytesIO(text))

    def test_a_machine_that_is_too_slow_for_a_moment_does_not_call_the_passphrase_wrong(self) -> None:
        self.write(passphrase=PASSPHRASE)
        real = pyrage.passphrase.decrypt
        slow = pyrage.DecryptError("Excessive work parameter for passphrase.")
        met = [slow, slow]

        def now_and_then(sealed: bytes, passphrase: str) -> bytes:
            if met:
                raise met.pop()
            return real(sealed, passphrase)

        with mock.patch.object(pyrage.passphrase, "decrypt", now_and_then):
            self.assertIn("records.sql", self.opened(passphrase=PASSPHRASE))
        with mock.patch.object(pyrage.passphrase, "decrypt", side_effect=slow):
            self.assertIn("too slow now", self.refused(passphrase=PASSPHRASE))

    def test_with_a_passphrase_all_comes_out_as_it_went_in_and_nothing_is_readable_before(self) -> None:
        self.write(passphrase=PASSPHRASE)
        raw = self.file.read_bytes()
        self.assertNotIn(b"secret plan", raw)
        self.assertNotIn(PASSPHRASE.encode(), raw)
        self.assertTrue(needs_passphrase(self.file))
        self.assertEqual(set(self.opened(passphrase=PASSPHRASE)), {"records.sql", "keys/one.json"})
        self.assertIn("This is not the passphrase", self.refused(passphrase="another one, quite"))
        self.assertEqual([one.name for one in self.folder.iterdir() if one.name.startswith(".")], [])

    def test_for_a_key_only_its_private_half_opens_it(self) -> None:
        public = make_key(self.folder / "private")
        self.assertEqual((self.folder / "private").stat().st_mode & 0o777, 0o600)
        self.write(recipient=public)
        self.assertFalse(needs_passphrase(self.file))
        self.assertEqual(len(self.opened(key=(self.folder / "private").read_text())), 2)
        make_key(self.folder / "other")
        self.assertIn("is not for this key", self.refused(key=(self.folder / "other").read_text()))
        self.assertIn("this is no private key", self.refused(key="rubbish"))
        self.assertIn("this is no private key", self.refused())

    def test_a_private_key_is_never_written_over(self) -> None:
        make_key(self.folder / "private")
        with self.assertRaises(FileExistsError):
            make_key(self.folder / "private")

    def test_what_would_not_lock_is_refused_before_anything_is_written(self) -> None:
        for lock in ({"passphrase": "short"}, {}, {"recipient": "age1nonsense"}):
            with self.subTest(lock), self.assertRaises(BackupFailed):
                self.write(**lock)
        self.assertFalse(self.file.exists())

    def test_a_backup_that_was_damaged_or_is_none_is_said(self) -> None:
        self.write(passphrase=PASSPHRASE)
        with tarfile.open(self.file) as outer:
            content = bytearray(outer.extractfile(CONTENT).read())  # type: ignore[union-attr]
        content[len(content) // 2] ^= 1
        self.replace(CONTENT, bytes(content))
        self.assertIn("is damaged", self.refused(passphrase=PASSPHRASE))
        self.file.write_bytes(self.file.read_bytes()[:4000])
        self.assertIn("backup.tar", self.refused(passphrase=PASSPHRASE))
        self.file.write_text("something else")
        self.assertIn("is no backup of Maestoso", self.refused(passphrase=PASSPHRASE))
        self.file.unlink()
        self.assertIn("cannot be read", self.refused(passphrase=PASSPHRASE))

    def test_nothing_is_written_outside_of_its_folder(self) -> None:
        link, outside = tarfile.TarInfo("link"), tarfile.TarInfo("../outside")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        for entry in (link, outside):
            place = self.folder / f"{entry.name.strip('./')}.tar"
            with tarfile.open(place, "w:gz") as made:
                made.addfile(entry, io.BytesIO())
            out = self.folder / f"out-{place.stem}"
            out.mkdir()
            with tarfile.open(place, "r:gz") as inner, self.assertRaises(tarfile.TarError):
                _take_out(inner, out)
            self.assertEqual(list(out.iterdir()), [])
        self.assertFalse((self.folder / "outside").exists())

    def test_one_of_a_newer_format_names_its_release(self) -> None:
        self.write(passphrase=PASSPHRASE)
        said = json.loads(json.dumps(vars_of(self.file)))
        self.replace(ABOUT, json.dumps({**said, "format": 2, "release": "9.1.0"}).encode())
        self.assertIn("9.1.0", self.refused(passphrase=PASSPHRASE))


def vars_of(file: Path) -> dict[str, object]:
    """What a backup says in clear, as it stands there."""
    about = read_about(file)
    return {
        "format": about.format,
        "release": about.release,
        "made_at": about.made_at,
        "content": about.content,
    }


if __name__ == "__main__":
    unittest.main()
