"""Backups by the clock: when, how many stay, what is said of those that failed; and the board."""

from __future__ import annotations

import os
import tempfile
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from maestoso.engine.clock import SystemClock
from maestoso.server.audit.models import AuditEntry
from maestoso.server.backups import archive, records, services
from maestoso.server.backups.archive import BackupFailed, make_key
from maestoso.server.backups.models import Backup
from maestoso.server.estate.models import Site
from tests.object_store import REGION, SECRET, USER, ObjectStore
from tests.server.tidewell import Tidewell


class AtSomeTime:
    """A clock that is set."""

    def __init__(self, now: datetime) -> None:
        self.at = now

    def now(self) -> datetime:
        """As set."""
        return self.at


class Case(Tidewell):
    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.public = make_key(self.folder / "private")
        self.now = SystemClock().now()
        self.wrong: list[str] = []
        self.patch(
            records, "gather", lambda options, secrets, room: (room / records.SQL).write_text("records")
        )
        self.patch(records, "troubles_of", lambda options, secrets, room, older=False: self.wrong)
        (self.folder / "there").mkdir()
        self.set(backup_folder=str(self.folder / "there"), backup_recipient=self.public)

    def patch(self, where: Any, name: str, what: Any) -> None:
        """For this test."""
        patched = mock.patch.object(where, name, what)
        patched.start()
        self.addCleanup(patched.stop)

    def set(self, **given: Any) -> None:
        """Settings, for this test."""
        self.patch(services, "OPTIONS", replace(services.OPTIONS, **given))

    def due(self, after: timedelta) -> int:
        """The keeper looks, so long after the beginning; how many good ones there are then."""
        services.back_up_when_due(AtSomeTime(self.now + after))
        return Backup.objects.filter(trouble="").count()


class InABucket(Case):
    """Backups are copied to a store, and what it says is said."""

    def setUp(self) -> None:
        super().setUp()
        self.store = ObjectStore("backups")
        self.addCleanup(self.store.close)
        secret = self.folder / "secret"
        secret.write_text(f"{SECRET}\n")
        self.set(
            backup_bucket=f"{self.store.address}/backups/maestoso", backup_bucket_key=USER, backup_bucket_region=REGION,
            backup_bucket_secret_file=str(secret), backup_keep=2,
        )  # fmt: skip

    def copied(self, after: timedelta) -> list[str]:
        """What is in the bucket, once the keeper has made what is due and copied it."""
        self.due(after)
        services.copy_to_bucket(AtSomeTime(self.now + after))
        return sorted(self.store.objects["backups"])

    def shown(self) -> Any:
        """The page of backups."""
        return self.browser.get("/api/v1/backups").json()

    def test_each_is_copied_whole_and_the_newest_stay(self) -> None:
        names = [f"maestoso/maestoso-{self.now + timedelta(days=day):%Y%m%dT%H%M%SZ}.tar" for day in range(3)]
        self.assertEqual(self.copied(timedelta()), names[:1])
        file = self.folder / "there" / Path(names[0]).name
        self.assertEqual(self.store.objects["backups"][names[0]], file.read_bytes())
        self.assertEqual(self.copied(timedelta(days=1)), names[:2])
        self.assertEqual(self.copied(timedelta(days=2)), names[1:])
        said = self.shown()
        self.assertEqual(said["bucket"], f"{self.store.address}/backups/maestoso")
        self.assertTrue(all(line["bucket_at"] for line in said["lines"]))
        self.assertEqual(said["trouble"], "")

    def test_a_store_that_refuses_is_said_and_asked_again_later(self) -> None:
        self.store.refuses = ("SlowDown", "Too many ask.")
        self.assertEqual(self.copied(timedelta()), [])
        self.assertIn("The last backup is in its folder only", self.shown()["trouble"])
        self.assertIn("the store says SlowDown: Too many ask.", self.shown()["lines"][0]["bucket_trouble"])
        self.store.refuses = None
        self.assertEqual(self.copied(timedelta(minutes=14)), [])
        self.assertEqual(len(self.copied(timedelta(minutes=16))), 1)
        self.assertEqual((self.shown()["trouble"], self.shown()["lines"][0]["bucket_trouble"]), ("", ""))

    def test_a_wrong_secret_no_bucket_and_nobody_there_each_have_their_sentence(self) -> None:
        (self.folder / "wrong").write_text("another")
        for days, (given, said) in enumerate(
            (
                ({"backup_bucket_secret_file": str(self.folder / "wrong")}, "SignatureDoesNotMatch"),
                ({"backup_bucket_secret_file": ""}, "backup_bucket_secret_file names no file"),
                ({"backup_bucket": f"{self.store.address}/others"}, "There is no bucket others"),
                ({"backup_bucket": self.store.address}, "is no address of a bucket"),
                ({"backup_bucket": "http://127.0.0.1:9/backups"}, "Nobody answers there"),
            )
        ):
            with (
                self.subTest(said),
                mock.patch.object(services, "OPTIONS", replace(services.OPTIONS, **given)),
            ):
                Backup.objects.all().delete()
                self.assertEqual(self.copied(timedelta(days=days)), [])
                self.assertIn(said, Backup.objects.get(trouble="").bucket_trouble)

    def test_what_cannot_be_taken_away_there_is_let_go_here_all_the_same(self) -> None:
        for day in range(2):
            self.copied(timedelta(days=day))
        self.store.refuses = ("SlowDown", "Too many ask.")
        self.assertEqual(self.due(timedelta(days=2)), 2)
        self.assertEqual(len(self.store.objects["backups"]), 2)

    def test_what_lies_elsewhere_is_not_copied(self) -> None:
        services.make(self.folder, services.Lock(recipient=self.public), by="ann", now=self.now)
        self.assertEqual(len(self.copied(timedelta(hours=1))), 1)


class ByTheClock(Case):
    def test_one_a_day_and_the_newest_stay(self) -> None:
        self.set(backup_keep=2)
        self.assertEqual(self.due(timedelta()), 1)
        self.assertEqual(self.due(timedelta(hours=23)), 1)
        self.assertEqual(self.due(timedelta(hours=24)), 2)
        self.assertEqual(self.due(timedelta(hours=48)), 2)
        files = {Path(file) for file in Backup.objects.values_list("file", flat=True)}
        self.assertEqual(set((self.folder / "there").iterdir()), files)
        self.assertEqual(min(Backup.objects.values_list("at", flat=True)), self.now + timedelta(hours=24))

    def test_one_is_made_at_once_where_somebody_wants_it(self) -> None:
        self.assertEqual(self.due(timedelta()), 1)
        for _ in range(2):
            reply = self.browser.send("POST", "/backups")
            self.assertEqual((reply.status_code, reply.json()["wanted_by"]), (202, "ann"))
        self.assertEqual(self.due(timedelta(minutes=1)), 2)
        self.assertEqual(self.due(timedelta(minutes=2)), 2)
        newest = self.browser.get("/api/v1/backups").json()
        self.assertEqual((newest["wanted_by"], newest["lines"][0]["by"]), ("", "ann"))
        entry = AuditEntry.objects.filter(path="backups").first()
        assert entry is not None
        self.assertEqual((entry.by, entry.did), ("ann", "Asked for a backup"))
        self.assertEqual(self.due(timedelta(hours=24)), 3, "that of the clock comes when it would")

    def test_one_that_was_wanted_and_failed_is_said_and_not_tried_for_ever(self) -> None:
        self.browser.send("POST", "/backups")
        self.wrong = ["Run 7 is not whole."]
        self.assertEqual(self.due(timedelta()), 0)
        said = self.browser.get("/api/v1/backups").json()
        self.assertEqual((said["wanted_by"], said["lines"][0]["by"]), ("", "ann"))
        self.assertIn("Run 7 is not whole.", said["lines"][0]["trouble"])

    def test_nobody_can_want_one_that_has_no_place_to_go(self) -> None:
        self.set(backup_folder="", backup_recipient="")
        body = self.problem(self.browser.send("POST", "/backups"), 409, "refused")
        self.assertIn("Nothing says where backups go", body["detail"])

    def test_what_somebody_made_by_hand_is_not_let_go(self) -> None:
        self.set(backup_keep=1)
        services.make(self.folder / "there", services.Lock(recipient=self.public), by="ann", now=self.now)
        self.due(timedelta(hours=1))
        self.due(timedelta(hours=30))
        self.assertEqual(sorted(Backup.objects.values_list("by", flat=True)), ["ann", "keeper"])

    def test_one_that_failed_leaves_no_file_says_why_and_is_tried_again_sooner(self) -> None:
        self.wrong.append("run 3: its chain is broken.")
        self.assertEqual(self.due(timedelta()), 0)
        self.assertIn("its chain is broken", Backup.objects.get().trouble)
        self.assertEqual(list((self.folder / "there").iterdir()), [])
        self.wrong.clear()
        self.assertEqual(self.due(timedelta(minutes=5)), 0)
        self.assertEqual(self.due(timedelta(minutes=16)), 1)

    def test_a_folder_that_is_gone_is_said(self) -> None:
        self.set(backup_folder=str(self.folder / "gone"))
        self.assertEqual(self.due(timedelta()), 0)
        self.assertIn("No such file or directory", Backup.objects.get().trouble)

    def test_what_somebody_left_who_was_killed_is_taken_away(self) -> None:
        old, fresh = (self.folder / "there" / f"{archive.ON_ITS_WAY}{name}" for name in ("old", "fresh"))
        for left in (old, fresh):
            left.mkdir()
        os.utime(old, (0, 0))
        self.due(timedelta())
        self.assertEqual((old.exists(), fresh.exists()), (False, True))

    def test_without_the_settings_none_is_made(self) -> None:
        self.set(backup_recipient="")
        self.assertEqual(self.due(timedelta()), 0)
        self.assertFalse(Backup.objects.exists())

    def test_one_that_is_tried_with_its_key_is_noted(self) -> None:
        self.due(timedelta())
        made = Backup.objects.get()
        with self.assertRaises(BackupFailed):
            services.try_out(Path(made.file), passphrase="", key="", now=self.now)
        private = (self.folder / "private").read_text()
        self.wrong.append("run 3: its chain is broken.")
        self.assertEqual(
            services.try_out(Path(made.file), passphrase="", key=private, now=self.now)[1], self.wrong
        )
        self.assertIsNone(Backup.objects.get().tried_at)
        self.wrong.clear()
        services.try_out(Path(made.file), passphrase="", key=private, now=self.now)
        self.assertEqual(Backup.objects.get().tried_at, self.now)


class OnTheBoard(Case):
    def said(self) -> tuple[str, str] | None:
        """Urgency and title of what the board says of backups."""
        actions = self.browser.get("/api/v1/readiness").json()["actions"]
        found = [(one["urgency"], one["title"]) for one in actions if one["to"].endswith("#backups")]
        return found[0] if found else None

    def setUp(self) -> None:
        super().setUp()
        Site.objects.filter(code="QUA").update(practice=False)

    def row(self, ago: timedelta, **more: Any) -> None:
        """A backup so long ago."""
        Backup.objects.create(**{"at": self.now - ago, "file": "x", "by": "keeper", **more})

    def test_whoever_set_up_none_is_told_to_and_practice_is_left_alone(self) -> None:
        self.set(backup_folder="")
        self.assertEqual(self.said(), ("sometime", "Nothing backs up what Maestoso knows"))
        self.row(timedelta(days=2), by="ann")
        self.assertIsNone(self.said())
        Backup.objects.all().delete()
        Site.objects.update(practice=True)
        self.assertIsNone(self.said())

    def test_one_that_is_late_is_for_now_and_says_why(self) -> None:
        self.assertIsNone(self.said(), "the first is on its way")
        self.row(timedelta(minutes=1), trouble="The disk is full.")
        self.assertEqual(self.said(), ("now", "No backup can be made"))
        self.row(timedelta(hours=30))
        self.assertIsNone(self.said())
        Backup.objects.filter(trouble="").update(at=self.now - timedelta(hours=50))
        self.assertEqual(self.said(), ("now", "The last backup is too old"))

    def test_the_page_says_the_same_and_shows_what_there_is(self) -> None:
        self.row(timedelta(hours=50), size=5_000_000)
        self.row(timedelta(minutes=1), trouble="The disk is full.")
        said = self.browser.get("/api/v1/backups").json()
        self.assertEqual(
            said["trouble"],
            "The last backup is too old. The last one was made 2 days ago. The disk is full.",
        )
        self.assertEqual([line["trouble"] for line in said["lines"]], ["The disk is full.", ""])
        self.assertEqual((said["folder"], said["lines"][1]["size"]), (str(self.folder / "there"), 5_000_000))

    def test_one_has_to_be_tried(self) -> None:
        self.row(timedelta(days=8))
        self.row(timedelta(hours=1))
        self.assertEqual(self.said(), ("sometime", "No backup was ever restored for a test"))
        Backup.objects.update(tried_at=self.now)
        self.assertIsNone(self.said())
