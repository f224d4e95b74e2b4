"""Disks as qcow2 files: overlays, what they hold, and reading and writing them while no machine does.

Every file but the newest of a chain is only read. A chain is kept in the files themselves: each names the one
below it.
"""

from __future__ import annotations

import errno
import json
import os
import struct
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple

from .bindings import nbd

ALLOCATION = "base:allocation"
_HOLE, _ZERO = 1, 2
_DIRTY = 1
_PART = 1 << 30
_HEADER, _HEADER_OF_2 = 104, 72
_FORMAT_BELOW = 0xE2792ACA


class ImageFault(Exception):
    """A program of the disks failed; the text is what it said."""


class Range(NamedTuple):
    """Bytes of a disk."""

    offset: int
    length: int


class Image(NamedTuple):
    """A file and what it is. That is told, and never read from the file: what is in a raw one is its
    machine's to write, which could write that it lies over any file of the host."""

    file: Path
    format: str = "qcow2"


def size_of(disk: Path, kind: str = "qcow2") -> int:
    """How large the machine sees it, in bytes."""
    return int(_info(disk, kind)["virtual-size"])


def bytes_of(disk: Path) -> int:
    """What the file takes of its file system."""
    return disk.stat().st_blocks * 512


def create(disk: Path, *, size: int = 0, below: Image | None = None) -> None:
    """A new file: empty, or over another one. What was there under its name is replaced."""
    disk.parent.mkdir(parents=True, exist_ok=True)
    backing = [] if below is None else ["-b", str(below.file), "-F", below.format]
    _run("qemu-img", "create", "-q", "-f", "qcow2", *backing, str(disk), *([] if below else [str(size)]))


def below(disk: Path) -> Path | None:
    """The file (qcow2) that this one lies over."""
    lower = _lies_over(disk)
    return None if lower is None else lower.file


def chain(disk: Path, kind: str = "qcow2") -> list[Path]:
    """The file and all below it, the newest first."""
    found, at = [], Image(disk, kind)
    while True:
        found.append(at.file)
        lower = _lies_over(at.file) if at.format == "qcow2" else None
        if lower is None:
            return found
        at = lower


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


def own_ranges(disk: Path) -> list[Range]:
    """What was written to this file since it lies over another. A machine that has it open must stand still:
    then all that it knows is in the file."""
    told = json.loads(_run("qemu-img", "map", "-U", "--output=json", "-f", "qcow2", str(disk)))
    return merged(
        [Range(one["start"], one["length"]) for one in told if one["depth"] == 0 and one.get("present", True)]
    )


def bitmaps(disk: Path) -> dict[str, bool]:
    """The bitmaps of changes that are in the file, and whether each can be relied on: after a machine was
    killed, none can."""
    data = _info(disk).get("format-specific", {}).get("data", {})
    return {one["name"]: "in-use" not in one["flags"] for one in data.get("bitmaps", [])}


def forget_bitmaps(disk: Path) -> None:
    """Remove them all."""
    for name in bitmaps(disk):
        _run("qemu-img", "bitmap", "-f", "qcow2", "--remove", str(disk), name)


def melt(upper: Path) -> Path:
    """Write what a file holds into the one below it, whose contents are then those of the upper; returns
    that."""
    lower = below(upper)
    if lower is None:
        raise ImageFault(f"{upper} lies over nothing.")
    # With -d the upper stays as it is: until nothing names it, it must be whole.
    _run("qemu-img", "commit", "-q", "-d", "-f", "qcow2", "-b", str(lower), str(upper))
    return lower


def lay_over(disk: Path, lower: Path) -> None:
    """Name another file (qcow2) as the one below, whose contents are equal."""
    _run("qemu-img", "rebase", "-u", "-f", "qcow2", "-F", "qcow2", "-b", str(lower), str(disk))


def equal(one: Image, other: Image) -> bool:
    """Whether two disks hold the same."""
    kinds = ["-f", one.format, "-F", other.format]
    done = subprocess.run(
        ["qemu-img", "compare", "-U", *kinds, str(one.file), str(other.file)],
        capture_output=True,
        check=False,
    )
    if done.returncode > 1:
        raise ImageFault(done.stderr.decode(errors="replace").strip())
    return done.returncode == 0


@contextmanager
def opened(disk: Path, kind: str = "qcow2", *, writable: bool = False, bitmap: str = "") -> Iterator[Any]:
    """The disk as a libnbd handle; with ``bitmap``, its ranges can be asked for (``dirty``)."""
    # A socket's name must be short, and these files may be deep down.
    with tempfile.TemporaryDirectory(prefix="maestoso-") as folder:
        socket = Path(folder) / "s"
        how = ["--cache=writeback", "--discard=unmap", "--detect-zeroes=unmap"] if writable else ["-r"]
        named = ["-B", bitmap] if bitmap else []
        process = subprocess.Popen(
            ["qemu-nbd", "-k", str(socket), "-f", kind, "-x", "disk", *how, *named, str(disk)],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        )  # fmt: skip
        try:
            contexts = [f"qemu:dirty-bitmap:{bitmap}"] if bitmap else [ALLOCATION]
            handle = _answering(process, socket, contexts, disk)
            try:
                yield handle
                if writable:
                    handle.flush()
            except nbd.Error as error:
                raise ImageFault(f"{disk} cannot be read or written: {error.string}") from error
            finally:
                with suppress(nbd.Error):
                    handle.shutdown()
                process.wait()  # it ends with its only client, all written
        finally:
            if process.poll() is None:
                process.kill()
                process.wait()
            if process.stderr:
                process.stderr.close()


def _answering(process: subprocess.Popen[bytes], socket: Path, contexts: list[str], disk: Path) -> Any:
    """A handle, once the program listens: its socket is there a moment earlier."""
    while True:
        if process.poll() is not None:
            said = process.stderr.read().decode(errors="replace") if process.stderr else ""
            raise ImageFault(f"{disk} cannot be opened: {said.strip()}")
        if socket.exists():
            try:
                return connected(socket, "disk", contexts)
            except nbd.Error as error:
                if error.errnum != errno.ECONNREFUSED:
                    raise ImageFault(f"{disk} cannot be read: {error.string}") from error
        time.sleep(0.01)


def connected(socket: Path, export: str, contexts: list[str]) -> Any:
    """A libnbd handle on a Unix socket."""
    handle = nbd.NBD()
    handle.set_export_name(export)
    for context in contexts:
        handle.add_meta_context(context)
    handle.connect_unix(str(socket))
    return handle


def dirty(handle: Any, bitmap: str) -> list[Range]:
    """The ranges of a bitmap."""
    return merged(
        [
            Range(at, size)
            for at, size, flags in _statuses(handle, f"qemu:dirty-bitmap:{bitmap}")
            if flags & _DIRTY
        ]
    )


def data_ranges(handle: Any) -> list[Range]:
    """What holds anything but zeros, as far as the file knows."""
    return merged([Range(at, size) for at, size, flags in _statuses(handle, ALLOCATION) if not flags & _ZERO])


def _statuses(handle: Any, context: str) -> list[tuple[int, int, int]]:
    found: list[tuple[int, int, int]] = []
    size, at = handle.get_size(), 0

    def note(name: str, offset: int, entries: list[int], error: Any) -> int:
        nonlocal at
        if name == context:
            for length, flags in zip(entries[::2], entries[1::2], strict=True):
                found.append((at, length, flags))
                at += length
        return 0

    while at < size:
        before = at
        handle.block_status(min(size - at, _PART), at, note)
        if at == before:
            raise ImageFault(f"The disk does not say what {context} holds.")
    return found


def merged(ranges: list[Range]) -> list[Range]:
    """In order, without overlaps, neighbours joined."""
    found: list[Range] = []
    for one in sorted(ranges):
        if found and one.offset <= found[-1].offset + found[-1].length:
            end = max(one.offset + one.length, found[-1].offset + found[-1].length)
            found[-1] = Range(found[-1].offset, end - found[-1].offset)
        elif one.length:
            found.append(one)
    return found


def without(ranges: list[Range], taken: list[Range]) -> list[Range]:
    """What of merged ``ranges`` is in none of merged ``taken``."""
    found: list[Range] = []
    for one in ranges:
        at, end = one.offset, one.offset + one.length
        for gone in taken:
            if gone.offset + gone.length <= at or gone.offset >= end:
                continue
            if gone.offset > at:
                found.append(Range(at, gone.offset - at))
            at = gone.offset + gone.length
        if at < end:
            found.append(Range(at, end - at))
    return found


def _info(disk: Path, kind: str = "qcow2") -> dict[str, Any]:
    told: dict[str, Any] = json.loads(_run("qemu-img", "info", "-U", "-f", kind, "--output=json", str(disk)))
    return told


def _run(*command: str) -> str:
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    if done.returncode:
        raise ImageFault((done.stderr or done.stdout).strip()[-500:])
    return done.stdout
