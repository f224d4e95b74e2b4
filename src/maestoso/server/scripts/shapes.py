"""What the API says of scripts and secrets."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ScriptView:
    """A script; ``used_by`` are the codes of plans whose newest version runs it, ``stale_in`` those of them
    that took in another text."""

    name: str
    interpreter: str
    text: str
    note: str
    sha256: str
    author: str
    saved_at: datetime
    revision: int
    used_by: tuple[str, ...]
    stale_in: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ScriptSave:
    """A script to keep under the name in the address. ``based_on`` is its revision, 0 for a new one."""

    interpreter: str
    text: str
    note: str = ""
    based_on: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class SecretView:
    """A secret without its value."""

    name: str
    author: str
    saved_at: datetime
    used_by: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class SecretSave:
    """The value of a secret; it is never said again."""

    value: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Library:
    """All scripts and the names of all secrets."""

    scripts: tuple[ScriptView, ...]
    secrets: tuple[SecretView, ...]
