"""Backups by the clock and by hand: made, checked before they are locked, kept for a while."""

from __future__ import annotations

import logging
import shutil
import tempfile
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from maestoso import __version__
from maestoso.core.errors import Refused
from maestoso.core.ports import Clock
from maestoso.core.wording import lasting
from maestoso.server.backups import archive, records
from maestoso.server.backups.archive import BackupFailed, Lock, unpack, write
from maestoso.server.backups.models import Backup, BackupWanted
from maestoso.server.backups.shapes import BackupLine, Backups
from maestoso.server.config.settings import OPTIONS, SECRETS

if TYPE_CHECKING:
    from maestoso.server.backups.bucket import Bucket

KEEPER = "keeper"
AGAIN = timedelta(minutes=15)
"""After one that failed."""
LONGEST_BY_HAND = timedelta(days=7)
TRY_WITHIN = timedelta(days=7)
LINES = 60
ROWS_KEPT = timedelta(days=400)
log = logging.getLogger("maestoso.backups")


def make(folder: Path, lock: Lock, *, by: str, now: datetime) -> Backup:
    """Make a backup in ``folder``, and load its records once to see that they are whole.

    What did not come to its end leaves no file, and a row that says why. Raises BackupFailed.
    """
    file = folder / f"maestoso-{now:%Y%m%dT%H%M%SZ}.tar"
    try:
        lock.check()
        if file.exists():
            raise BackupFailed(f"{file} is there already.", "Try again in a second.")
        with tempfile.TemporaryDirectory(prefix=archive.ON_ITS_WAY, dir=OPTIONS.var) as room:
            records.gather(OPTIONS, SECRETS, Path(room))
            wrong = records.troubles_of(OPTIONS, SECRETS, Path(room))
            if wrong:
                raise BackupFailed(
                    f"The records are not as they were written: {wrong[0]}",
                    "python -m django check_integrity says all of it (docs/security.md).",
                )
            about = write(file, Path(room), lock, __version__, now.isoformat(timespec="seconds"))
    except (BackupFailed, OSError) as error:
        said = error.sentence if isinstance(error, BackupFailed) else f"{folder}: {error.strerror or error}."
        Backup.objects.create(at=now, file=str(file), by=by, trouble=said[:1000])
        if isinstance(error, BackupFailed):
            raise
        raise BackupFailed(said, "Look at the folder, and at its free space.") from error
    return Backup.objects.create(
        at=now, file=str(file), size=file.stat().st_size, content=about.content, by=by
    )


def back_up_when_due(clock: Clock) -> None:
    """The keeper's part: one every so many hours, where a setting says where to."""
    if not by_itself():
        return
    now = clock.now()
    wanted = BackupWanted.objects.first()
    if wanted is None and not _is_due(now):
        return
    folder = Path(OPTIONS.backup_folder)
    for place in (folder, OPTIONS.var):
        _sweep(place, now)
    try:
        lock, by = Lock(recipient=OPTIONS.backup_recipient), wanted.by if wanted else KEEPER
        made = make(folder, lock, by=by, now=now)
        log.info("Backup %s was made and checked.", made.file)
    except BackupFailed as error:
        log.warning("No backup was made: %s %s", error.sentence, error.remedy)
        return
    finally:
        if wanted is not None:
            wanted.delete()
    _let_go(now)


def copy_to_bucket(clock: Clock) -> None:
    """The keeper's part: what is in the folder and not in the bucket is copied there, the newest first."""
    now = clock.now()
    if not OPTIONS.backup_bucket or Backup.objects.filter(bucket_tried_at__gt=now - AGAIN).exists():
        return
    waiting = [
        row for row in Backup.objects.filter(trouble="")[: OPTIONS.backup_keep] if row.bucket_at is None
    ]
    for row in waiting:
        file = Path(row.file)
        if file.parent != Path(OPTIONS.backup_folder) or not file.is_file():
            continue
        try:
            _bucket().put(file)
        except BackupFailed as error:
            log.warning("%s was not copied to the bucket: %s %s", file.name, error.sentence, error.remedy)
            row.bucket_tried_at, row.bucket_trouble = now, error.sentence[:1000]
            row.save()
            return
        row.bucket_at, row.bucket_tried_at, row.bucket_trouble = now, None, ""
        row.save()


def _bucket() -> Bucket:
    # Who has none does not load what speaks to it, in every process.
    from maestoso.server.backups.bucket import Bucket

    return Bucket(OPTIONS)


def by_itself() -> bool:
    """Whether settings say where backups go, and for which key."""
    return bool(OPTIONS.backup_folder and OPTIONS.backup_recipient)


def _is_due(now: datetime) -> bool:
    every = timedelta(hours=OPTIONS.backup_every_hours)
    last = Backup.objects.filter(by=KEEPER).first()
    return last is None or not timedelta(0) <= now - last.at < (min(AGAIN, every) if last.trouble else every)


def want(by: str, now: datetime) -> None:
    """Have the keeper make one as soon as it can. Raises Refused where settings do not say where to."""
    if not by_itself():
        raise Refused(
            "Nothing says where backups go, and for whose key.",
            "Set backup_folder and backup_recipient, or run ./maestoso backup on the machine.",
        )
    BackupWanted.objects.get_or_create(pk=1, defaults={"by": by, "at": now})


@dataclass(frozen=True, slots=True)
class Trouble:
    """What is wrong with the backups; ``late`` where they were set up and none was made in time."""

    title: str
    sentence: str
    late: bool = False


def trouble_of_backups(now: datetime) -> Trouble | None:
    """Whether the records would outlive this machine."""
    good = Backup.objects.filter(trouble="")
    last = good.first()
    ago = "None was ever made."
    if last is not None:
        ago = f"The last one was made {lasting((now - last.at).total_seconds())} ago."
    if by_itself() and (last is None or now - last.at > 2 * timedelta(hours=OPTIONS.backup_every_hours)):
        newest = Backup.objects.first()
        if newest is not None:
            why = f" {newest.trouble}" if newest.trouble else " The keeper makes them: see its log."
            title = "The last backup is too old" if last else "No backup can be made"
            return Trouble(title, f"{ago}{why}", late=True)
        return None  # the first is on its way
    if not by_itself() and (last is None or now - last.at > LONGEST_BY_HAND):
        return Trouble(
            "Nothing backs up what Maestoso knows",
            f"{ago} Plans, keys and evidence would be lost with this machine. Set backup_folder and "
            "backup_recipient.",
        )
    if last is not None and last.bucket_trouble and OPTIONS.backup_bucket:
        return Trouble(
            "The last backup is in its folder only",
            f"{last.bucket_trouble} It is tried again every {lasting(AGAIN.total_seconds())}.",
            late=True,
        )
    first = good.last()
    if first is not None and now - first.at > TRY_WITHIN and not good.exclude(tried_at=None).exists():
        return Trouble(
            "No backup was ever restored for a test",
            "Whether its key is there, and opens it, is known only then: ./maestoso restore FILE --try.",
        )
    return None


def shown(now: datetime) -> Backups:
    """For the page of backups."""
    trouble, wanted = trouble_of_backups(now), BackupWanted.objects.first()
    return Backups(
        folder=OPTIONS.backup_folder if by_itself() else "",
        bucket=OPTIONS.backup_bucket if by_itself() else "",
        every_hours=OPTIONS.backup_every_hours,
        keep=OPTIONS.backup_keep,
        trouble=f"{trouble.title}. {trouble.sentence}" if trouble else "",
        wanted_by=wanted.by if wanted else "",
        lines=tuple(
            BackupLine(
                at=row.at,
                file=row.file,
                size=row.size,
                by=row.by,
                trouble=row.trouble,
                tried_at=row.tried_at,
                bucket_at=row.bucket_at,
                bucket_trouble=row.bucket_trouble,
            )
            for row in Backup.objects.all()[:LINES]
        ),
    )


def _sweep(place: Path, now: datetime) -> None:
    """Records in clear, and halves of files, that somebody left behind who was killed over them."""
    for left in place.glob(f"{archive.ON_ITS_WAY}*"):
        if now.timestamp() - left.stat().st_mtime > records.LONGEST_S:
            shutil.rmtree(left, ignore_errors=True)


def _let_go(now: datetime) -> None:
    """Of what the keeper made, the newest stay; files of others are nobody's here."""
    good = Backup.objects.filter(by=KEEPER, trouble="").order_by("-at")
    for old in good[max(OPTIONS.backup_keep, 1) :]:
        Path(old.file).unlink(missing_ok=True)
        if old.bucket_at is not None and OPTIONS.backup_bucket:
            try:
                _bucket().remove(Path(old.file).name)
            except BackupFailed as error:
                log.warning("%s stays in the bucket: %s", Path(old.file).name, error.sentence)
        old.delete()
    Backup.objects.filter(at__lt=now - ROWS_KEPT).exclude(trouble="").delete()


def try_out(file: Path, *, passphrase: str, key: str, now: datetime) -> tuple[str, list[str]]:
    """Open a backup and load it beside what runs; when it was made, and what is wrong with it.

    Raises BackupFailed where it cannot be opened or loaded.
    """
    with tempfile.TemporaryDirectory(prefix=archive.ON_ITS_WAY, dir=OPTIONS.var) as place:
        room = Path(place) / "content"
        room.mkdir(mode=0o700)
        about = unpack(file, room, passphrase=passphrase, key=key)
        wrong = records.troubles_of(OPTIONS, SECRETS, room, older=about.release != __version__)
    if not wrong:
        Backup.objects.filter(content=about.content).update(tried_at=now)
    return about.made_at, wrong
