"""The file of a backup: a tar of what may be known and what may not.

``about.json`` says in clear which release made it, when, and the digest of the rest. ``content.age`` is a
compressed tar of the records (SQL), ``secrets.json`` and ``keys``, encrypted for one key in the age format.
With a passphrase, that key was made for this file alone and stands beside it as ``key.age``, under the
passphrase. So a backup can be opened by hand, with ``tar`` and any program that knows age.

It needs neither Django nor a database: who restores has none yet.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tarfile
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path

import pyrage

from maestoso.core.errors import DomainError

FORMAT = 1
ON_ITS_WAY = ".maestoso-backup-"
"""How folders begin whose content is not whole yet, or in clear."""
MOST_TRIES = 10
ABOUT, KEY, CONTENT = "about.json", "key.age", "content.age"
SHORTEST_PASSPHRASE = 12
LARGEST_ABOUT = 100_000


class BackupFailed(DomainError):
    """A backup could not be made, opened, loaded or checked."""

    code, status = "backup-failed", 409


@dataclass(frozen=True, slots=True, kw_only=True)
class About:
    """What a backup says in clear: ``made_at`` by RFC 3339, ``content`` as SHA-256 of the encrypted part."""

    format: int
    release: str
    made_at: str
    content: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Lock:
    """What a backup is encrypted with: the public key ``recipient`` (``age1…``), or else a ``passphrase``."""

    recipient: str = ""
    passphrase: str = ""

    def check(self) -> None:
        """Raises BackupFailed for what is neither."""
        if self.recipient:
            _recipient(self.recipient)
        elif len(self.passphrase) < SHORTEST_PASSPHRASE:
            raise BackupFailed(
                f"The passphrase has {len(self.passphrase)} characters.",
                f"Choose one of {SHORTEST_PASSPHRASE} or more: the backup holds every key and secret.",
            )


def make_key(file: Path) -> str:
    """Write a new private key for backups into a file that is not there yet; returns the public one.

    Raises FileExistsError.
    """
    made = pyrage.x25519.Identity.generate()
    descriptor = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as out:
        out.write(f"# Opens the backups of Maestoso. Public key: {made.to_public()}\n{made}\n")
    return str(made.to_public())


def write(file: Path, folder: Path, lock: Lock, release: str, made_at: str) -> About:
    """Make the backup ``file`` of what is in ``folder``; there is none until it is whole."""
    lock.check()
    with _beside(file) as room:
        if lock.recipient:
            recipient = _recipient(lock.recipient)
        else:
            own = pyrage.x25519.Identity.generate()
            recipient = own.to_public()
            (room / KEY).write_bytes(pyrage.passphrase.encrypt(str(own).encode(), lock.passphrase))
        plain = room / "content.tar.gz"
        with tarfile.open(plain, "w:gz", compresslevel=6) as inner:
            inner.add(folder, arcname=".")
        pyrage.encrypt_file(str(plain), str(room / CONTENT), [recipient])
        plain.unlink()
        about = About(format=FORMAT, release=release, made_at=made_at, content=_digest(room / CONTENT))
        (room / ABOUT).write_text(json.dumps(asdict(about), indent=1), encoding="utf-8")
        with tarfile.open(room / "whole", "w") as outer:
            for name in (ABOUT, KEY, CONTENT):
                if (room / name).is_file():
                    outer.add(room / name, arcname=name, filter=_nobodys)
        with (room / "whole").open("rb") as whole:
            os.fsync(whole.fileno())
        (room / "whole").replace(file)
    return about


def read_about(file: Path) -> About:
    """What a backup says in clear. Raises BackupFailed for a file that is none, or of a newer format."""
    try:
        with tarfile.open(file, "r:") as outer:
            found = outer.extractfile(ABOUT)
            said = json.loads(found.read(LARGEST_ABOUT)) if found else {}
        about = About(**said)
    except (OSError, KeyError, tarfile.TarError, ValueError, TypeError) as error:
        if isinstance(error, OSError) and not isinstance(error, tarfile.TarError):
            raise BackupFailed(f"{file} cannot be read: {error.strerror}.", "Name a backup file.") from None
        raise BackupFailed(
            f"{file} is no backup of Maestoso.", "Name a file that ./maestoso backup made."
        ) from None
    if about.format != FORMAT:
        raise BackupFailed(
            f"{file} is a backup of format {about.format}, made by release {about.release}.",
            "Restore it with that release.",
        )
    return about


def needs_passphrase(file: Path) -> bool:
    """Whether a backup is opened by a passphrase, and not by the private key of whom it was made for."""
    with tarfile.open(file, "r:") as outer:
        return KEY in outer.getnames()


def unpack(file: Path, folder: Path, *, passphrase: str = "", key: str = "") -> About:
    """Open a backup into an empty folder. ``key`` is the text of a private key's file.

    Raises BackupFailed where it is damaged, or this does not open it.
    """
    about = read_about(file)
    with _beside(folder) as room, tarfile.open(file, "r:") as outer:
        # By their names, as files of ours: whatever else a tar may hold stays in it.
        for name in (KEY, CONTENT):
            if name in outer.getnames() and (found := outer.extractfile(name)) is not None:
                with (room / name).open("wb") as out:
                    shutil.copyfileobj(found, out)
        if not (room / CONTENT).is_file() or _digest(room / CONTENT) != about.content:
            raise BackupFailed(f"{file} is damaged: its content is not what it was.", "Take another backup.")
        identity = _identity(room / KEY, passphrase, key)
        try:
            pyrage.decrypt_file(str(room / CONTENT), str(room / "content.tar.gz"), [identity])
            with tarfile.open(room / "content.tar.gz", "r:gz") as inner:
                _take_out(inner, folder)
        except pyrage.DecryptError:
            raise BackupFailed(
                f"{file} is not for this key.", "Give the private key of the public key that it was made for."
            ) from None
        except (tarfile.TarError, OSError, EOFError) as error:
            raise BackupFailed(
                f"{file} cannot be unpacked: {error}.", "Look at the free space, or take another."
            ) from None
    return about


def _take_out(inner: tarfile.TarFile, folder: Path) -> None:
    """Folders and plain files below ``folder``; anything else that a tar may hold is refused.

    By hand, because ``extractall`` learns to do so with Python 3.11.4, and Debian 12 has 3.11.2.
    """
    for entry in inner:
        place = Path(os.path.normpath(folder / entry.name))
        if not place.is_relative_to(folder) or not (entry.isdir() or entry.isfile()):
            raise tarfile.TarError(f"it holds {entry.name!r}, which no backup does")
        if entry.isdir():
            place.mkdir(mode=0o700, parents=True, exist_ok=True)
        elif (found := inner.extractfile(entry)) is not None:
            with place.open("xb") as out:
                shutil.copyfileobj(found, out)


def _recipient(text: str) -> pyrage.x25519.Recipient:
    try:
        return pyrage.x25519.Recipient.from_str(text.strip())
    except pyrage.RecipientError:
        raise BackupFailed(
            f"{text[:80]!r} is no public key.",
            "It begins with age1; ./maestoso backup --make-key FILE makes one.",
        ) from None


def _identity(wrapped: Path, passphrase: str, key: str) -> pyrage.x25519.Identity:
    if wrapped.is_file():
        key = _unwrapped(wrapped.read_bytes(), passphrase)
    lines = [line.strip() for line in key.splitlines() if line.strip() and not line.startswith("#")]
    try:
        return pyrage.x25519.Identity.from_str(lines[0] if lines else "")
    except pyrage.IdentityError:
        raise BackupFailed(
            "The backup is for a key, and this is no private key.",
            "Name the file that ./maestoso backup --make-key made: --key FILE.",
        ) from None


def _unwrapped(sealed: bytes, passphrase: str) -> str:
    """The key under a passphrase. What is too much work for this machine is refused by the library, which
    measures that anew each time: where it has much else to do, once in a while too little is left."""
    for left in reversed(range(MOST_TRIES)):
        try:
            opened: bytes = pyrage.passphrase.decrypt(sealed, passphrase)
            return opened.decode()
        except pyrage.DecryptError as error:
            if "work" not in str(error):
                raise BackupFailed("This is not the passphrase of the backup.", "Try again.") from None
            if not left:
                raise BackupFailed(
                    "This machine is too slow now to open a backup with a passphrase.",
                    "Try again when it has less to do, or on another one.",
                ) from None
    raise AssertionError("the last try returns or raises")


def _digest(file: Path) -> str:
    with file.open("rb") as opened:
        return hashlib.file_digest(opened, "sha256").hexdigest()


def _nobodys(entry: tarfile.TarInfo) -> tarfile.TarInfo:
    """Who made it on which machine is nobody's business."""
    entry.uid = entry.gid = 0
    entry.uname = entry.gname = ""
    return entry


@contextmanager
def _beside(place: Path) -> Iterator[Path]:
    """A folder for what is on its way, on the same file system, that its owner alone may enter."""
    room = Path(tempfile.mkdtemp(prefix=ON_ITS_WAY, dir=place.parent))
    try:
        yield room
    finally:
        shutil.rmtree(room, ignore_errors=True)
