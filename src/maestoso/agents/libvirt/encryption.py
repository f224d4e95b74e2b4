"""Encrypted copies: which folder's files are opened with which passphrase.

Files of a group whose policy says so are qcow2 with LUKS inside. The passphrase is made from the key that
came with the group, and is kept by libvirt, as machines open their disks with it: in its memory while the
files are copies, so that whoever has the disks, or starts the host anew, has nothing; on the host as soon as
they are promoted, as production must start there without Maestoso.
"""

from __future__ import annotations

import hashlib
import uuid
from pathlib import Path
from typing import NamedTuple

from maestoso.core.replication.copy_key import fingerprint


class Key(NamedTuple):
    """What opens the encrypted files under a folder."""

    folder: Path
    passphrase: str
    fingerprint: str
    """What tells the key that people gave from another."""

    @property
    def uuid(self) -> str:
        """Of the secret of libvirt that holds it."""
        return str(uuid.uuid5(uuid.NAMESPACE_URL, self.folder.as_uri()))


_held: dict[Path, Key] = {}
"""By folder, for the whole process."""


def made_from(folder: Path, group: str, secret: str) -> Key:
    """The key of a group's folder, from the ``secret`` that people gave.

    The passphrase is scrypt (RFC 7914) of it. That is slow on purpose (about 50 ms), and done once, so that
    LUKS need not be slow for each of the hundreds of files of a chain.
    """
    salt = f"copies of {group}".encode()
    passphrase = hashlib.scrypt(secret.encode(), salt=salt, n=2**14, r=8, p=1, dklen=32).hex()
    return Key(folder, passphrase, fingerprint(group, secret))


def hold(key: Key) -> None:
    """From now on files that are made under its folder are encrypted, and encrypted ones can be opened."""
    _held[key.folder] = key


def let_go(folder: Path) -> None:
    """Nothing under a folder can be opened any more."""
    _held.pop(folder, None)


def key_of(file: Path) -> Key | None:
    """The key of the folder that a file is in, or None."""
    return next((_held[folder] for folder in file.parents if folder in _held), None)
