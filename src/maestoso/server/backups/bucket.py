"""Copies of backups in a bucket of any store that speaks S3: put there, listed, fetched, taken away.

Knows nothing of records or Django: on a machine where nothing is installed, it is how a backup comes back.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import urllib3
from minio import Minio
from minio.error import MinioException, S3Error

from maestoso.server.backups.archive import ON_ITS_WAY, BackupFailed
from maestoso.server.config.exposure import BUCKET_LIKE, bucket_parts
from maestoso.server.config.options import Options

CONNECT_S, ANSWER_S = 5.0, 120.0
LOOK = "Look at backup_bucket and the settings with it, and at the store itself."


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """A file in the bucket: its name without the folder, its size in bytes, since when it is there."""

    name: str
    size: int
    at: datetime | None


class Bucket:
    """The bucket that settings name. All of it raises BackupFailed, with what the store said."""

    def __init__(self, options: Options) -> None:
        self._address = options.backup_bucket
        try:
            host, by_tls, self._bucket, self._folder = bucket_parts(self._address)
            secret = Path(options.backup_bucket_secret_file).read_text(encoding="utf-8").strip()
        except ValueError as error:
            raise BackupFailed(f"backup_bucket: {error}", BUCKET_LIKE) from error
        except OSError as error:
            named = options.backup_bucket_secret_file or "backup_bucket_secret_file names no file"
            raise BackupFailed(f"The secret of the bucket cannot be read: {named}.", LOOK) from error
        line = urllib3.PoolManager(
            timeout=urllib3.Timeout(connect=CONNECT_S, read=ANSWER_S),
            retries=urllib3.Retry(total=1, connect=1, read=0, redirect=0),
            ca_certs=options.backup_bucket_ca or None,
        )
        self._store = Minio(
            host, access_key=options.backup_bucket_key, secret_key=secret, secure=by_tls,
            region=options.backup_bucket_region, http_client=line,
        )  # fmt: skip

    def put(self, file: Path) -> None:
        """Copy a file there, and see that all of it is."""
        with self._said(file.name):
            self._store.fput_object(self._bucket, self._folder + file.name, str(file))
            there = self._store.stat_object(self._bucket, self._folder + file.name).size
        if there != file.stat().st_size:
            raise BackupFailed(f"{self._address}: {file.name} has {there} bytes there, and here not.", LOOK)

    def files(self) -> list[Kept]:
        """What is there, the newest first."""
        with self._said():
            found = [
                Kept(
                    name=one.object_name.removeprefix(self._folder), size=one.size or 0, at=one.last_modified
                )
                for one in self._store.list_objects(self._bucket, prefix=self._folder)
                if one.object_name and not one.is_dir
            ]
        return sorted(found, key=lambda one: one.name, reverse=True)

    def fetch(self, name: str, folder: Path) -> Path:
        """Bring a file into a folder, where none of its name is; half of it is never there."""
        file, half = folder / name, folder / f"{ON_ITS_WAY}{name}"
        if Path(name).name != name:
            raise BackupFailed(
                f"{name!r} is no name of a file.", "./maestoso backup --list says what is there."
            )
        if file.exists():
            raise BackupFailed(f"{file} is there already.", "Take it away, or name another folder.")
        try:
            with self._said(name):
                self._store.fget_object(self._bucket, self._folder + name, str(half))
            half.rename(file)
        finally:
            half.unlink(missing_ok=True)
        return file

    def remove(self, name: str) -> None:
        """Take a file away; one that is not there is no matter."""
        with self._said(name):
            self._store.remove_object(self._bucket, self._folder + name)

    @contextmanager
    def _said(self, name: str = "") -> Iterator[None]:
        about = f" ({name})" if name else ""
        try:
            yield
        except S3Error as error:
            raise BackupFailed(
                f"{self._address}{about}: the store says {error.code}: {error.message}", LOOK
            ) from error
        except (MinioException, urllib3.exceptions.HTTPError, OSError, ValueError) as error:
            raise BackupFailed(f"{self._address}{about}: {_in_words(error)}", LOOK) from error


def _in_words(error: Exception) -> str:
    reason = getattr(error, "reason", error)
    if isinstance(reason, urllib3.exceptions.SSLError):
        return f"Its certificate is not trusted: {reason}."
    if isinstance(reason, urllib3.exceptions.NewConnectionError | urllib3.exceptions.ConnectTimeoutError):
        return "Nobody answers there."
    if isinstance(reason, urllib3.exceptions.HTTPError):
        return "The line to the store broke, or it did not answer in time."
    return f"{reason}."
