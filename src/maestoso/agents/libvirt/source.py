"""The sending side of copies: points of all machines of a group in one moment, and what they hold.

A point stands as long as the other site reads it: running machines as pull-mode backups of libvirt, each with
a checkpoint of the point's name, so that the next point knows what changed; machines without power as their
files, held open so that nobody gives them power meanwhile.
"""

from __future__ import annotations

import hashlib
import json
import logging
import shutil
import struct
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from . import images
from .bindings import libvirt, nbd
from .chains import Image, ImageFault
from .definition import COMES_UP_S, MachineDisk, disks
from .files import write
from .hypervisor import GuestSilent, Hypervisor, NoMachine
from .images import Range
from .pull_backups import MARK, PullBackups, words

BLOCK = 1 << 16
"""Bytes of a block that is compared by its hash."""
HASH_BYTES = 16
CHUNK = 1 << 20
ABANDONED_S = 600.0
"""A point that nobody reads for so long is ended: what a machine writes meanwhile takes space."""
AGENT_S = 15
"""How long a guest may take to freeze or thaw; without it, libvirt waits for ever."""
GO_ON_S = 300.0
READ_S = 10.0
"""For so long a machine that shall be shut down waits for who reads a point of it."""
THAWS = 4
"""How often a guest is asked at once to thaw, before it is asked once with each look."""
TRIES = 3
PASSING = (
    libvirt.VIR_ERR_OPERATION_INVALID,
    libvirt.VIR_ERR_OPERATION_TIMEOUT,
    libvirt.VIR_ERR_OPERATION_FAILED,
)
"""What libvirt says of a machine that is changing its state."""
FRAME = struct.Struct(">QI?")
"""Of the stream of blocks: offset, length, and whether it is all zeros, so that no bytes follow."""
Changed = list[Range] | None
log = logging.getLogger("site-agent")


class NoPoint(Exception):
    """The point is not open here, or has no such disk."""


class SourceFault(Exception):
    """No point can be made; the text is why."""


class _OpenDisk:
    """One disk of an open point. Its handle is used by one thread at a time."""

    def __init__(self, handle: Any, changed: Callable[[], list[Range] | None]) -> None:
        self.handle = handle
        self.size = int(handle.get_size())
        self.changed = changed
        self.turn = threading.Lock()


class _Point:
    """A point that is being read."""

    def __init__(self, name: str, group: str) -> None:
        self.name = name
        self.group = group
        self.stack = ExitStack()
        self.disks: dict[tuple[str, str], _OpenDisk] = {}
        self.running: list[str] = []
        self.sockets: dict[str, Path] = {}
        self.touched = time.monotonic()


class Source:
    """Points of this site's machines, for other sites."""

    def __init__(self, hypervisor: Hypervisor, folder: Path) -> None:
        self.hypervisor = hypervisor
        self.folder = folder / "source"
        self.backups = PullBackups(hypervisor, self.folder)
        self._turn = threading.Lock()
        self._points: dict[str, _Point] = {}
        self._leaving: set[str] = set()
        self._still = self.folder.with_name("standing-still.json")
        self._frozen = self.folder.with_name("frozen.json")
        """Whose file systems are frozen, or may be: who did not say so in time may be later."""
        self._go_on_after_a_kill()
        shutil.rmtree(self.folder, ignore_errors=True)
        self.folder.mkdir(parents=True)

    def _go_on_after_a_kill(self) -> None:
        """An agent that was killed while machines stood still left them so; and backups that nobody reads."""
        for name in _names(self._still):
            domain = self.hypervisor.find(name)
            if domain is not None and domain.isActive():
                log.warning("%s stood still when the agent was killed, and goes on", name)
                _go_on(domain)
        self._still.unlink(missing_ok=True)
        self._thaw()
        for name in self.hypervisor.names():
            self.backups.end(name)

    # --- making and ending points ---

    def open(
        self, group: str, members: Mapping[str, Mapping[str, Any]], *, application: bool
    ) -> dict[str, Any]:
        """A point of these machines: ``disks`` of each, and ``since`` which point the other side has them, if
        any. The answer is what there is to read. Raises SourceFault.

        With ``application`` the guests are frozen by their agents first; where one cannot, none is.
        """
        end = time.monotonic() + COMES_UP_S
        while time.monotonic() < end and any(map(self._comes_or_goes, members)):
            time.sleep(0.2)
        with self._turn:
            for old in [point for point in self._points.values() if point.group == group]:
                self._end(old, received=False)  # its reader begins anew
            for left in reversed(range(TRIES)):
                point = _Point(f"{MARK}{datetime.now(UTC):%Y%m%dT%H%M%S%f}", group)
                try:
                    told = self._open(point, members, application)
                except (libvirt.libvirtError, nbd.Error, ImageFault, NoMachine, OSError) as error:
                    self._end(point, received=False)
                    # A machine that ends meanwhile, or just comes up, has another state the next time.
                    passing = isinstance(error, libvirt.libvirtError) and error.get_error_code() in PASSING
                    if not left or not passing:
                        raise SourceFault(f"No point of {group} can be made: {words(error)}") from error
                    log.info("a point of %s is tried again: %s", group, words(error))
                    time.sleep(1.0)
                else:
                    self._points[point.name] = point
                    return told
            raise AssertionError("the last try returns or raises")

    def _comes_or_goes(self, name: str) -> bool:
        """While a backup goes on, libvirt takes no news that a guest agent is there, or gone: it waits half a
        minute, ends no backup meanwhile, and then has lost it for good."""
        goes = name in self._leaving and self.hypervisor.running(name)
        return goes or self.hypervisor.agent_comes(name)

    @contextmanager
    def leaving(self, name: str, wait: Callable[[float], None]) -> Iterator[None]:
        """A machine is about to be shut down: no point of it is begun, and who reads one has little time."""
        self._leaving.add(name)
        try:
            end = time.monotonic() + READ_S
            while reading := [one for one in list(self._points.values()) if name in one.running]:
                if time.monotonic() < end:
                    wait(0.1)
                    continue
                with self._turn:
                    for point in reading:
                        self._end(point, received=False)  # its reader begins anew
            yield
        finally:
            self._leaving.discard(name)

    def _open(
        self, point: _Point, members: Mapping[str, Mapping[str, Any]], application: bool
    ) -> dict[str, Any]:
        machines: dict[str, dict[str, Any]] = {}
        found: dict[str, list[MachineDisk]] = {}
        for name, asked in members.items():
            definition = self.hypervisor.xml(name, passwords=False)
            found[name] = [disk for disk in disks(definition) if disk.name in asked["disks"]]
            missing = set(asked["disks"]) - {disk.name for disk in found[name]}
            if missing:
                raise SourceFault(f"{name} has no disk {', '.join(sorted(missing))} that is a file.")
            machines[name] = {
                "xml": ElementTree.tostring(definition, encoding="unicode"),
                "promoted_from": self.hypervisor.kept(name).get("point", ""),
            }
        running = [name for name in members if self.hypervisor.running(name)]
        kind, at = self._stand_still(point, running, members, found, application)
        for name in members:
            if name not in running:
                self._open_files(point, name, found[name], str(members[name].get("since", "")))
                machines[name]["contents"] = max(
                    (disk.file.stat().st_mtime for disk in found[name]), default=0.0
                )
            else:
                machines[name]["contents"] = at.timestamp()
            machines[name]["disks"] = {disk.name: point.disks[name, disk.name].size for disk in found[name]}
        return {"point": point.name, "at": at.isoformat(), "kind": kind, "machines": machines}

    def _stand_still(
        self, point: _Point, running: list[str], members: Mapping[str, Mapping[str, Any]],
        found: Mapping[str, list[MachineDisk]], application: bool,
    ) -> tuple[str, datetime]:  # fmt: skip
        """All machines that run stop for a moment, the point of each is made, and all go on: so the order in
        which they wrote, to whatever disk of whatever machine, is kept. Its kind, and the moment that all
        stood still."""
        domains = {name: self.hypervisor.machine(name) for name in running}
        # What somebody else stopped stays as it is.
        moving = {name: domain for name, domain in domains.items() if not _stands_still(domain)}
        write(self._still, list(moving))  # whoever comes after this agent has them go on
        own: dict[tuple[str, str], list[Range]] = {}
        try:
            frozen = application and bool(running) and self._freeze(domains)
            since = {
                name: self.backups.checkpoint(domains[name], str(members[name].get("since", "")))
                for name in running
            }
            for name in running:
                self.backups.scratch(name, found[name])  # what of it takes long is made now
            for domain in moving.values():
                domain.suspend()
            at = datetime.now(UTC)
            for name, domain in domains.items():
                if not since[name] and self.hypervisor.kept(name).get("point"):
                    own |= {(name, disk.name): images.own_ranges(disk.file) for disk in found[name]}
                since[name] = self.backups.begin(
                    domain, name, found[name], point=point.name, since=since[name],
                    socket=self._socket(point, name),
                )  # fmt: skip
                point.running.append(name)
        finally:
            for domain in moving.values():
                _go_on(domain)
            self._still.unlink(missing_ok=True)
            self._thaw()
        for name in running:
            for disk in found[name]:
                self._connect(point, name, disk.name, since[name], own.get((name, disk.name)))
        return "application-consistent" if frozen else "crash-consistent", at

    def _freeze(self, domains: Mapping[str, Any]) -> bool:
        """All of them, if all their agents answer; whether each said that it is. ``_thaw`` has to follow."""
        try:
            for name in domains:
                self.hypervisor.guest(name, "guest-ping", 5)
            write(self._frozen, sorted({*_names(self._frozen), *domains}))
            for domain in domains.values():
                domain.agentSetResponseTimeout(AGENT_S)
                domain.fsFreeze()
        except (libvirt.libvirtError, GuestSilent) as error:
            log.warning("not every guest can be frozen, so none is: %s", error)
            return False
        return True

    def _thaw(self, tries: int = THAWS) -> None:
        """Whose file systems are frozen, or may be, writes again. Whoever cannot be reached now is asked with
        each look after points, until it says so or has no power."""
        noted = _names(self._frozen)
        left = [name for name in noted if not any(self._writes(name, again=bool(n)) for n in range(tries))]
        if left:
            write(self._frozen, left)
            if tries > 1:  # once, and not with each look
                log.error("these may be frozen, and are asked until they write again: %s", ", ".join(left))
        elif noted:
            self._frozen.unlink()

    def _writes(self, name: str, *, again: bool) -> bool:
        """Whether a guest says that nothing in it is frozen any more, or has no power."""
        if again:
            time.sleep(0.5)
        try:
            domain = self.hypervisor.find(name)
            if domain is not None and domain.isActive():
                domain.agentSetResponseTimeout(AGENT_S)
                domain.fsThaw()
        except libvirt.libvirtError as error:
            log.debug("%s is not thawed: %s", name, words(error))
            return False
        return True

    def _socket(self, point: _Point, name: str) -> Path:
        """Where the backup of a machine is read, as long as the point stands."""
        folder = Path(tempfile.mkdtemp(prefix="maestoso-"))
        folder.chmod(0o733)  # QEMU may be another user
        point.stack.callback(shutil.rmtree, folder, ignore_errors=True)
        point.sockets[name] = folder / "s"
        return point.sockets[name]

    def _connect(self, point: _Point, name: str, disk: str, since: str, own: list[Range] | None) -> None:
        bitmap = f"changed-{disk}" if since else ""
        contexts = [images.ALLOCATION, *([f"qemu:dirty-bitmap:{bitmap}"] if bitmap else [])]
        handle = images.connected(point.sockets[name], disk, contexts)
        point.stack.callback(handle.shutdown)
        point.disks[name, disk] = _OpenDisk(
            handle, (lambda: images.dirty(handle, bitmap)) if bitmap else lambda: own
        )

    def _open_files(self, point: _Point, name: str, found: list[MachineDisk], since: str) -> None:
        for disk in found:
            handle = point.stack.enter_context(images.opened(disk.file, disk.format))
            promoted = bool(self.hypervisor.kept(name).get("point"))

            def changed(image: Image = Image(disk.file, disk.format), promoted: bool = promoted) -> Changed:
                told = changed_since(image, since)
                return images.own_ranges(image.file) if told is None and promoted else told

            point.disks[name, disk.name] = _OpenDisk(handle, changed)

    def close(self, name: str, *, received: bool) -> None:
        """The other site is done with a point; where it has it all, older checkpoints are not needed any
        more. One that is not open is no fault."""
        with self._turn:
            point = self._points.get(name)
            if point is not None:
                self._end(point, received=received)

    def give_back(self, machine: str) -> None:
        """End the points that hold the files of a machine open: it shall have power, which comes first."""
        with self._turn:
            for point in list(self._points.values()):
                if machine not in point.running and machine in {name for name, _ in point.disks}:
                    log.info("%s of %s is ended: %s gets power", point.name, point.group, machine)
                    self._end(point, received=False)

    def tidy(self) -> None:
        """End points that nobody reads any more, and thaw whom that could not be told when it was wanted."""
        with self._turn:
            self._thaw(tries=1)
            for point in list(self._points.values()):
                if time.monotonic() - point.touched > ABANDONED_S:
                    log.warning("%s of %s is ended: nobody has read it for a while", point.name, point.group)
                    self._end(point, received=False)

    def _end(self, point: _Point, *, received: bool) -> None:
        self._points.pop(point.name, None)
        with suppress(Exception):
            point.stack.close()
        for name in point.running:
            self.backups.end(name)
            with suppress(libvirt.libvirtError):  # what stays is deleted with a later one
                self.backups.delete_checkpoints(name, point.name, received=received)

    # --- reading them ---

    def ranges(self, point: str, machine: str, disk: str) -> dict[str, Any]:
        """``size``, ``data`` (what is not zero) and ``changed`` (since the point that the other side has, or
        None where that is not known)."""
        found = self._disk(point, machine, disk)
        with found.turn, _as_no_point(point):
            return {
                "size": found.size, "data": images.data_ranges(found.handle), "changed": found.changed(),
            }  # fmt: skip

    def hashes(self, point: str, machine: str, disk: str, ranges: list[Range]) -> Iterator[bytes]:
        """A hash (16 bytes) of each block of 64 KiB of each range."""
        found = self._disk(point, machine, disk)
        for one in ranges:
            for at in range(one.offset, one.offset + one.length, CHUNK):
                data = self._read(point, found, at, min(CHUNK, one.offset + one.length - at))
                yield b"".join(hash_of(data[i : i + BLOCK]) for i in range(0, len(data), BLOCK))

    def blocks(self, point: str, machine: str, disk: str, ranges: list[Range]) -> Iterator[bytes]:
        """Frames of what the ranges hold."""
        found = self._disk(point, machine, disk)
        for one in ranges:
            for at in range(one.offset, one.offset + one.length, CHUNK):
                data = self._read(point, found, at, min(CHUNK, one.offset + one.length - at))
                zero = data.count(0) == len(data)
                yield FRAME.pack(at, len(data), zero)
                if not zero:
                    yield bytes(data)

    def _read(self, point: str, disk: _OpenDisk, at: int, size: int) -> bytearray:
        with self._turn:
            if point not in self._points:
                raise NoPoint(point)
            self._points[point].touched = time.monotonic()
        with disk.turn, _as_no_point(point):
            data: bytearray = disk.handle.pread(size, at)
        return data

    def _disk(self, point: str, machine: str, disk: str) -> _OpenDisk:
        with self._turn:
            found = self._points.get(point)
            if found is None or (machine, disk) not in found.disks:
                raise NoPoint(point)
            found.touched = time.monotonic()
            return found.disks[machine, disk]


@contextmanager
def _as_no_point(point: str) -> Iterator[None]:
    """A machine that ends takes what is read of it with it."""
    try:
        yield
    except (nbd.Error, ImageFault) as error:
        log.warning("%s cannot be read any more: %s", point, error)
        raise NoPoint(point) from error


def changed_since(image: Image, since: str) -> list[Range] | None:
    """What was written to a file that no machine has open, since a point, by the bitmaps in it; None where
    that is not known. More than that is no fault."""
    if image.format != "qcow2":
        return None
    found = images.bitmaps(image.file)
    before = [name for name in found if name.startswith(MARK) and name <= since]
    if not since or not before:
        return None
    needed = [name for name in found if name.startswith(MARK) and name >= max(before)]
    if not all(found[name] for name in needed):
        return None
    changed: list[Range] = []
    for name in needed:
        with images.opened(image.file, bitmap=name) as handle:
            changed += images.dirty(handle, name)
    return images.merged(changed)


def hash_of(block: bytes | bytearray | memoryview) -> bytes:
    """Of a block; equal blocks have equal ones."""
    return hashlib.blake2b(block, digest_size=HASH_BYTES).digest()


def _names(file: Path) -> list[str]:
    """Machines that are noted there."""
    try:
        found: list[str] = json.loads(file.read_text("utf-8"))
    except FileNotFoundError:
        return []
    return found


def _go_on(domain: Any) -> None:
    """A machine that stood still runs again. It is not left alone before it does: while it changes its state
    otherwise, libvirt may refuse for a while."""
    end = time.monotonic() + GO_ON_S
    while _stands_still(domain):
        try:
            domain.resume()
        except libvirt.libvirtError as error:
            if time.monotonic() > end:
                log.error("%s stands still, and cannot be made to go on: %s", domain.name(), words(error))
                return
            time.sleep(0.2)


def _stands_still(domain: Any) -> bool:
    try:
        return bool(domain.state()[0] == libvirt.VIR_DOMAIN_PAUSED)
    except libvirt.libvirtError:
        return False  # it is gone
