"""Chains of disk files: what each lies over, and with which key it is opened.

A chain is kept in the files themselves: each names the one below it. Read from their headers, and by nothing
else here.
"""

from __future__ import annotations

import os
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from . import encryption
from .encryption import Key

_HEADER, _HEADER_OF_2 = 104, 72
_FORMAT_BELOW = 0xE2792ACA
_CRYPT_AT, _LUKS = 32, 2


class ImageFault(Exception):
    """A disk cannot be read or written; the text is why."""


class Image(NamedTuple):
    """A file and what it is. That is told, and never read from the file: what is in a raw one is its
    machine's to write, which could write that it lies over any file of the host."""

    file: Path
    format: str = "qcow2"


class Layer(NamedTuple):
    """A file of a chain; ``key`` opens it, where it is encrypted."""

    image: Image
    key: Key | None


def below(disk: Path) -> Path | None:
    """The file (qcow2) that this one lies over."""
    lower = _lies_over(disk)
    return None if lower is None else lower.file


def chain(disk: Path, kind: str = "qcow2") -> list[Path]:
    """The file and all below it, the newest first."""
    return [image.file for image in _images(disk, kind)]


def _images(disk: Path, kind: str) -> Iterator[Image]:
    at: Image | None = Image(disk, kind)
    while at is not None:
        yield at
        at = _lies_over(at.file) if at.format == "qcow2" else None


def encrypted(image: Image) -> bool:
    """Whether a file is encrypted; what it lies over may be otherwise."""
    if image.format != "qcow2":
        return False
    with image.file.open("rb") as file:
        file.seek(_CRYPT_AT)
        return int.from_bytes(file.read(4), "big") == _LUKS


def layers(disk: Path, kind: str = "qcow2") -> list[Layer]:
    """The file and all below it, the newest first, each with its key: that of its folder, else of what it
    lies over. Raises ImageFault where that is not known."""
    found: list[Layer] = []
    key: Key | None = None
    for image in reversed(list(_images(disk, kind))):
        locked = encrypted(image)
        if locked:
            key = encryption.key_of(image.file) or key
            if key is None:
                name = image.file.name
                raise ImageFault(
                    f"{name} is encrypted, and its key is not here. Maestoso gives it with the group."
                )
        found.append(Layer(image, key if locked else None))
    return found[::-1]


def _lies_over(disk: Path) -> Image | None:
    """What stands in the header of a qcow2 file (QEMU, docs/interop/qcow2.txt): where the name of the file
    below is, and in an extension what that is. Read here, because chains of hundreds are followed all the
    time, and a program that is started for each link takes a hundred times as long. Raises ImageFault."""
    try:
        with disk.open("rb") as file:
            head = file.read(_HEADER)
            magic, version, at, size = struct.unpack_from(">4sIQI", head)
            if magic != b"QFI\xfb":
                raise ImageFault(f"{disk} is no qcow2 file.")
            if not at:
                return None
            file.seek(at)
            name = os.fsdecode(file.read(size))
            file.seek(int.from_bytes(head[100:104], "big") if version > 2 else _HEADER_OF_2)
            kind = "raw"
            while file.tell() < at:
                number, length = struct.unpack(">II", file.read(8))
                data = file.read(length + -length % 8)
                if number == _FORMAT_BELOW:
                    kind = data[:length].decode()
                if number == 0:
                    break
    except (OSError, struct.error, UnicodeDecodeError) as error:
        raise ImageFault(f"The header of {disk} cannot be read: {error}") from error
    # A name that is not whole begins at the folder of the file.
    return Image(disk.parent / name, kind)
