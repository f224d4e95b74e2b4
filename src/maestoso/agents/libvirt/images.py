"""Disks as qcow2 files: overlays, what they hold, and reading and writing them while no machine does.

Every file but the newest of a chain is only read.
"""

from __future__ import annotations

import errno
import json
import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, NamedTuple

from . import chains, encryption
from .bindings import nbd
from .chains import Image, ImageFault
from .encryption import Key

ALLOCATION = "base:allocation"
_HOLE, _ZERO = 1, 2
_DIRTY = 1
_PART = 1 << 30
_NOT_YET = (errno.ECONNREFUSED, errno.ECONNRESET, errno.ENOENT)
_UNLOCK_MS = 10
"""How long LUKS may take to make a key of a passphrase: that one is as strong as a key already."""


class Range(NamedTuple):
    """Bytes of a disk."""

    offset: int
    length: int


def size_of(disk: Path, kind: str = "qcow2") -> int:
    """How large the machine sees it, in bytes."""
    return int(_info(disk, kind)["virtual-size"])


def bytes_of(disk: Path) -> int:
    """What the file takes of its file system."""
    return disk.stat().st_blocks * 512


def create(disk: Path, *, size: int = 0, below: Image | None = None, key: Key | None = None) -> None:
    """A new file: empty, or over another one. What was there under its name is replaced.

    It is encrypted with a ``key``: the one that is given, that of its folder, or of what it lies over.
    """
    disk.parent.mkdir(parents=True, exist_ok=True)
    key = key or encryption.key_of(disk) or (chains.layers(*below)[0].key if below else None)
    fresh = disk.with_name(f"{disk.name}.new")  # whoever finds the file finds all of it
    if key is not None:
        shutil.copyfile(_empty(key, size_of(*below) if below else size), fresh)
        if below is not None:
            lay_over(fresh, below, key)
    else:
        backing = [] if below is None else ["-b", str(below.file), "-F", below.format]
        _run("qemu-img", "create", "-q", "-f", "qcow2", *backing, str(fresh), *([] if below else [str(size)]))
    fresh.replace(disk)


def _empty(key: Key, size: int) -> Path:
    """An empty encrypted file of a size. Made once and copied: each would take seconds, in which LUKS
    measures how quick this host is. So all of a folder have one key within, as the states of one disk."""
    file = key.folder / "empty" / f"{size}.qcow2"
    if not file.is_file():
        file.parent.mkdir(parents=True, exist_ok=True)
        fresh = file.with_suffix(".new")
        how = f"encrypt.format=luks,encrypt.key-secret=k,encrypt.iter-time={_UNLOCK_MS}"
        with _secrets({key: "k"}) as (told, open_files):
            _run(
                "qemu-img", "create", "-q", *told, "-f", "qcow2", "-o", how, str(fresh), str(size),
                open_files=open_files,
            )  # fmt: skip
        fresh.replace(file)
    return file


@contextmanager
def _secrets(named: dict[Key, str]) -> Iterator[tuple[list[str], tuple[int, ...]]]:
    """How programs of QEMU are given passphrases, by what each is called, and the open files they find them
    in: in memory, and not among the arguments, which everybody on the host may read."""
    opened = {}
    try:
        for key in named:
            opened[key] = os.memfd_create("passphrase")
            os.write(opened[key], key.passphrase.encode())
        told = [
            part for key, name in named.items()
            for part in ("--object", f"secret,id={name},file=/dev/fd/{opened[key]}")
        ]  # fmt: skip
        yield told, tuple(opened.values())
    finally:
        for number in opened.values():
            os.close(number)


class _Named(NamedTuple):
    """How programs of QEMU are told of a disk."""

    options: list[str]
    name: str
    open_files: tuple[int, ...]


@contextmanager
def _named(image: Image, *, alone: bool = False, key: Key | None = None, mark: str = "k") -> Iterator[_Named]:
    """A disk for a program of QEMU. Where anything of its chain is encrypted, every file of that is named
    with its key; ``alone``: only the first. ``mark`` tells the keys of two disks from each other."""
    found = [chains.Layer(image, key)] if key is not None else chains.layers(*image)
    found = found[:1] if alone else found
    keys = {layer.key: f"{mark}{number}" for number, layer in enumerate(found) if layer.key is not None}
    if not keys:
        yield _Named(["-f", image.format], str(image.file), ())
        return
    with _secrets(keys) as (told, open_files):
        lower: dict[str, Any] | None = None
        for layer in reversed(found):
            described: dict[str, Any] = {
                "driver": layer.image.format, "file": {"driver": "file", "filename": str(layer.image.file)},
            }  # fmt: skip
            if layer.image.format == "qcow2":
                described["backing"] = lower
            if layer.key is not None:
                described["encrypt"] = {"format": "luks", "key-secret": keys[layer.key]}
            lower = described
        yield _Named(told, f"json:{json.dumps(lower)}", open_files)


def own_ranges(disk: Path) -> list[Range]:
    """What was written to this file since it lies over another. A machine that has it open must stand still:
    then all that it knows is in the file."""
    told = json.loads(_at(Image(disk), "map", "-U", "--output=json"))
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
        _at(Image(disk), "bitmap", "--remove", after=(name,), alone=True)


def melt(upper: Path) -> Path:
    """Write what a file holds into the one below it, whose contents are then those of the upper; returns
    that."""
    lower = chains.below(upper)
    if lower is None:
        raise ImageFault(f"{upper} lies over nothing.")
    # With -d the upper stays as it is: until nothing names it, it must be whole.
    _at(Image(upper), "commit", "-q", "-d")
    return lower


def lay_over(disk: Path, lower: Image, key: Key | None = None) -> None:
    """Name another file as the one below, whose contents are equal; with the key of one that lies over
    nothing yet."""
    _at(Image(disk), "rebase", "-q", "-u", "-F", lower.format, "-b", str(lower.file), alone=True, key=key)


def equal(one: Image, other: Image) -> bool:
    """Whether two disks hold the same."""
    with _named(one) as first, _named(other, mark="o") as second:
        kinds = [*first.options, *("-F" if part == "-f" else part for part in second.options)]
        done = subprocess.run(
            ["qemu-img", "compare", "-U", *kinds, first.name, second.name],
            pass_fds=[*first.open_files, *second.open_files],
            capture_output=True,
            check=False,
        )
    if done.returncode > 1:
        raise ImageFault(done.stderr.decode(errors="replace").strip())
    return done.returncode == 0


_starter = ThreadPoolExecutor(1, "serves disks")
"""What serves a disk ends with the thread that started it (``--pdeathsig``): an agent that is killed leaves
none open behind it. This one lives as long as the agent."""
_WITH_AGENT = ["setpriv", "--pdeathsig", "KILL", "sh", "-c", 'test "$PPID" -eq "$0" && exec "$@"']
"""Before the number of the agent's process and a program: where the agent was killed before the signal was
asked for, none will ever come."""


@contextmanager
def opened(disk: Path, kind: str = "qcow2", *, writable: bool = False, bitmap: str = "") -> Iterator[Any]:
    """The disk as a libnbd handle; with ``bitmap``, its ranges can be asked for (``dirty``)."""
    # A socket's name must be short, and these files may be deep down.
    with tempfile.TemporaryDirectory(prefix="maestoso-") as folder, _named(Image(disk, kind)) as told:
        socket = Path(folder) / "s"
        how = ["--cache=writeback", "--discard=unmap", "--detect-zeroes=unmap"] if writable else ["-r"]
        named = ["-B", bitmap] if bitmap else []
        process = _starter.submit(
            subprocess.Popen,
            [*_WITH_AGENT, str(os.getpid()), "qemu-nbd", "-k", str(socket), *told.options,
             "-x", "disk", *how, *named, told.name],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
            pass_fds=told.open_files,
        ).result()  # fmt: skip
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
    """A handle, once the program listens: its socket is there a moment earlier, and it may end after that."""
    while True:
        if process.poll() is not None:
            said = process.stderr.read().decode(errors="replace") if process.stderr else ""
            raise ImageFault(f"{disk} cannot be opened: {said.strip()}")
        if socket.exists():
            try:
                return connected(socket, "disk", contexts)
            except nbd.Error as error:
                if error.errnum not in _NOT_YET:
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


def _at(image: Image, *command: str, after: Sequence[str] = (), **how: Any) -> str:
    """Run qemu-img on a disk, named as ``how`` says; what it printed."""
    with _named(image, **how) as told:
        return _run("qemu-img", *command, *told.options, told.name, *after, open_files=told.open_files)


def _run(*command: str, open_files: Sequence[int] = ()) -> str:
    done = subprocess.run(command, capture_output=True, text=True, check=False, pass_fds=open_files)
    if done.returncode:
        raise ImageFault((done.stderr or done.stdout).strip()[-500:])
    return done.stdout
