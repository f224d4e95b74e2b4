"""What is said of backups over HTTP."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class BackupLine:
    """A backup, or with a ``trouble`` why there is none. ``tried_at``: it was opened and loaded.

    ``bucket_at``: since when it is in the bucket, too; ``bucket_trouble`` why it is not.
    """

    at: datetime
    file: str
    size: int
    by: str
    trouble: str
    tried_at: datetime | None
    bucket_at: datetime | None
    bucket_trouble: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Backups:
    """``folder`` is empty where none is made by itself; ``trouble`` is what the board would say.

    ``bucket`` is where each is copied to, if anywhere.

    ``wanted_by`` asked for one that is not made yet, if anybody did.
    """

    folder: str
    bucket: str
    every_hours: int
    keep: int
    trouble: str
    wanted_by: str
    lines: tuple[BackupLine, ...]
