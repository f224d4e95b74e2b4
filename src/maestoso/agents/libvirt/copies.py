"""The receiving side: copies of groups as chains of files, their points, and how they are thinned out.

Of each group there is a folder with ``points`` (a JSON file each, which is written last and makes the point)
and ``disks`` (of each disk a file for each point, over the one before). Copies that were made writable lie
over the file of their point, and so do those of tests; what they lie over is never written to.
"""

from __future__ import annotations

import json
import logging
import os
import shutil
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np

from maestoso.agent_kit.platform import Failure
from maestoso.core.codec import from_data
from maestoso.core.model.protection import Policy
from maestoso.core.replication.retention import ladders, retained

from . import chains, encryption, images
from .between import AgentAway, Other
from .chains import Image
from .files import plain, seconds, write
from .images import Range
from .source import BLOCK, CHUNK, changed_since, hash_of

log = logging.getLogger("site-agent")
MOST_POINTS = 150
"""Of a group: each is a file over the one before, and libvirt 9.0 gives no power to a disk with more than 200
files (QEMU_DOMAIN_STORAGE_SOURCE_CHAIN_MAX_DEPTH)."""
DEEPEST = 190
"""Files of a disk at most, with those that stay because a machine or a test lies over them."""
Told = Callable[[int, int], None]
"""Called with bytes that came and bytes that will, as they come."""


class Copies:
    """All groups whose copies are here, in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._known = _Known()
        folder.mkdir(parents=True, exist_ok=True)

    def of(self, group: str) -> GroupCopies:
        """One group's. Raises Failure where that can be no name."""
        return GroupCopies(self.folder / plain(group), group, self._known)


class _Known:
    """Points that were read, by group: they are looked at all the time. Whoever writes or reads takes
    turns, so that nobody keeps what was read just before it changed."""

    def __init__(self) -> None:
        self.turn = threading.RLock()
        self.points: dict[str, list[dict[str, Any]]] = {}


class GroupCopies:
    """The copies of one group."""

    def __init__(self, folder: Path, group: str, known: _Known) -> None:
        self.folder = folder
        self.group = group
        self._known = known
        self.live = folder / "live"
        """Files that machines write to, over those of the point that they came up from."""

    # --- points ---

    def points(self) -> list[dict[str, Any]]:
        """Oldest first, each with the ``machines`` that are in it."""
        with self._known.turn:
            found = self._known.points.get(self.group)
            if found is None:
                files = sorted((self.folder / "points").glob("[!.]*.json"))
                found = [json.loads(file.read_text("utf-8")) for file in files]
                self._known.points[self.group] = found
            return list(found)

    def point(self, ident: str | None) -> dict[str, Any]:
        """One, or the newest. Raises Failure."""
        found = [point for point in self.points() if ident in (None, "", point["id"])]
        if not found:
            which = f"The recovery point {ident} of {self.group} is not held here any more." if ident else (
                f"There is no recovery point of {self.group} yet."
            )  # fmt: skip
            raise Failure("point-gone", which)
        return found[-1]

    def disks(self, point: Mapping[str, Any], machine: str) -> dict[str, Path]:
        """The files of a machine at a point, by its names for the disks. Raises Failure."""
        if machine not in point["machines"]:
            raise Failure("no-such-replica", f"{machine} is not in the point {point['id']} of {self.group}.")
        told = point["machines"][machine]["disks"]
        return {name: self.folder / "disks" / disk["file"] for name, disk in told.items()}

    def save_point(self, point: Mapping[str, Any]) -> None:
        """From now on there is that point, as it is given."""
        with self._known.turn:
            write(self.folder / "points" / f"{point['id']}.json", point)
            self._known.points.pop(self.group, None)

    def kept_bytes(self) -> int:
        """What its files take."""
        return sum(images.bytes_of(file) for file in (self.folder / "disks").glob("*"))

    # --- a new point ---

    def receive(
        self, other: Other, members: Mapping[str, Mapping[str, Any]], *, application: bool,
        bases: Mapping[tuple[str, str], Image], told: Told, pace: Callable[[int], None],
    ) -> dict[str, Any]:  # fmt: skip
        """Have a new point made of ``members`` (their ``disks``) and bring what differs from what is here.

        ``bases``: by machine and disk, what a machine of this site had before it was given up; the new point
        lies over that. ``pace`` is called with bytes as they come, and waits where that is too fast. Raises
        AgentAway, ImageFault; then what is here is as before, and a first copy goes on where it was.
        """
        before = [] if bases else self.points()
        newest = before[-1] if before else None
        asked = {
            name: {
                "disks": list(spec["disks"]),
                "since": newest["id"] if newest and name in newest["machines"] else "",
            }
            for name, spec in members.items()
        }
        opened = other.open(self.group, asked, application=application)
        ident = opened["point"]
        point: dict[str, Any] = {
            "id": ident, "group": self.group, "at": opened["at"], "kind": opened["kind"], "changed_bytes": 0,
            "machines": {},
        }  # fmt: skip
        try:
            plans = {
                (name, disk): self._plan(other, ident, name, disk, machine, newest, bases)
                for name, machine in opened["machines"].items() for disk in machine["disks"]
            }  # fmt: skip
            total, done = sum(plan.amount for plan in plans.values()), 0
            for name, machine in opened["machines"].items():
                held: dict[str, Any] = {}
                for disk, size in machine["disks"].items():
                    came = 0
                    for amount in self._bring(other, ident, plans[name, disk]):
                        pace(amount)
                        came, done = came + amount, done + amount
                        told(done, max(total, done))
                    held[disk] = {"file": f"{plain(name)}-{disk}.{ident}.qcow2", "size": size, "bytes": came}
                    point["changed_bytes"] += came
                point["machines"][name] = {
                    "xml": machine["xml"],
                    "contents": machine["contents"],
                    "disks": held,
                }
            for (name, disk), plan in plans.items():
                plan.file.rename(self.folder / "disks" / f"{plain(name)}-{disk}.{ident}.qcow2")
            self.save_point(point)
        except BaseException:
            if newest is not None:
                for file in (self.folder / "disks").glob("*.coming"):
                    file.unlink()
            _let_go(other, ident, received=False)
            raise
        _let_go(other, ident, received=True)
        return point

    def _plan(
        self, other: Other, ident: str, name: str, disk: str, machine: Mapping[str, Any],
        newest: Mapping[str, Any] | None, bases: Mapping[tuple[str, str], Image],
    ) -> _Plan:  # fmt: skip
        """What has to come for one disk, into which file."""
        size, data, changed = other.ranges(ident, name, disk)
        base = bases.get((name, disk))
        lower = base or self._disk_before(newest, name, disk) or self.carried(name, disk)
        file = self.folder / "disks" / f"{plain(name)}-{disk}.coming"
        if lower is not None and images.size_of(lower.file, lower.format) != size:
            lower, changed = None, None  # it was given another size: copied as a whole
        fresh = (
            not file.is_file() or chains.below(file) != (lower and lower.file) or images.size_of(file) != size
        )
        if fresh:
            images.create(file, size=size, below=lower)
        if base is not None and lower == base:
            # It was written to on both sides since the point that this side was left at.
            own = changed_since(base, machine["promoted_from"])
            if own is None and base.file.parent == self.live:
                own = images.own_ranges(base.file)  # all since it was promoted here is more than that
            changed = None if changed is None or own is None else images.merged([*changed, *own])
        elif lower is None or newest is None:
            changed = None
        if changed is not None:
            return _Plan(name, disk, file, size, changed, compare=False)
        # Of a first copy that was interrupted, and of what was carried here, only the differences come.
        return _Plan(name, disk, file, size, data, compare=lower is not None or not fresh)

    def _disk_before(self, newest: Mapping[str, Any] | None, name: str, disk: str) -> Image | None:
        held = {} if newest is None else newest["machines"].get(name, {}).get("disks", {})
        return Image(self.folder / "disks" / held[disk]["file"]) if disk in held else None

    def carried(self, name: str, disk: str) -> Image | None:
        """A seed: a file that somebody carried here, whose ending says what it is. Where copies are
        encrypted, it must be, too."""
        files = [(self.folder / "seed" / f"{plain(name)}-{disk}.{kind}", kind) for kind in ("qcow2", "raw")]
        found = next((Image(file, kind) for file, kind in files if file.is_file()), None)
        clear = found is not None and encryption.key_of(found.file) and not chains.encrypted(found)
        return None if clear else found

    @property
    def key(self) -> encryption.Key | None:
        """What is made here is encrypted with it; None where it is in clear, or the key is not here."""
        return encryption.key_of(self.live)

    def encrypted(self) -> bool | None:
        """Whether the points here are; None where there are none."""
        files = (
            file
            for point in self.points()
            for machine in point["machines"]
            for file in self.disks(point, machine).values()
        )
        return next((chains.encrypted(Image(file)) for file in files), None)

    def _bring(self, other: Other, ident: str, plan: _Plan) -> Iterator[int]:
        """Write what comes, and say how much as it does."""
        with images.opened(plan.file, writable=True) as handle:
            wanted = plan.ranges
            if plan.compare:
                for one in images.without([Range(0, plan.size)], plan.ranges):
                    _clear(handle, one)  # zeros over there
                wanted = []
                for at, length in _differing(
                    handle, other.hashes(ident, plan.machine, plan.disk, plan.ranges), plan.ranges
                ):
                    wanted.append(Range(at, length))
                wanted = images.merged(wanted)
            for offset, length, data in other.blocks(ident, plan.machine, plan.disk, wanted):
                if data is None:
                    handle.zero(length, offset)
                else:
                    handle.pwrite(data, offset)
                yield length

    def keep_below(self, point: Mapping[str, Any]) -> None:
        """What a machine of this site wrote to before it was given up, and a point lies over now, belongs to
        the chain from now on, and is melted with it in time."""
        for name in point["machines"]:
            for disk, file in self.disks(point, name).items():
                base = chains.below(file)
                if base is None or base.parent != self.live:
                    continue
                kept = self.folder / "disks" / f"{plain(name)}-{disk}.before-{point['id']}.qcow2"
                if not kept.exists():
                    os.link(base, kept)  # both names, until nothing uses the old one
                for one in (self.folder / "disks").glob("*.qcow2"):
                    if chains.below(one) == base:
                        images.lay_over(one, Image(kept))
                base.unlink()

    # --- thinning out ---

    def thin(self, policy: Mapping[str, Any], now: float, in_use: Iterable[Path]) -> None:
        """Let points go that the policy does not keep, and melt their files together, but for those that
        something lies over which is ``in_use``."""
        points = self.points()
        if not points:
            return
        rules = ladders([from_data(Policy, dict(policy), tolerant=True)])
        at = np.array([int(seconds(point["at"])) for point in points], dtype=np.int64)
        pinned = np.array([bool(point.get("label")) for point in points])
        stays = retained(np.zeros(len(at), dtype=np.int64), at, int(now), rules, pinned)
        for point, stay in list(zip(points, stays, strict=True))[:-1]:
            if not stay:
                self.drop_point(point["id"])
        self.sweep(in_use)
        self._stay_shallow(set(in_use))

    def _stay_shallow(self, in_use: set[Path]) -> None:
        """Let the oldest points go that nothing lies over, until a machine can come up from the newest."""
        *older, newest = self.points()
        for point in older:
            if self._deepest(newest) <= DEEPEST:
                return
            files = [file for name in point["machines"] for file in self.disks(point, name).values()]
            if not point.get("label") and not in_use.intersection(files):
                log.warning("%s of %s goes early: its disks have too many files", point["id"], self.group)
                self.drop_point(point["id"])
                self.sweep(in_use)
                newest = self.points()[-1]  # its files may have been melted

    def _deepest(self, point: Mapping[str, Any]) -> int:
        """Of how many files a disk of a point is at most."""
        files = (file for name in point["machines"] for file in self.disks(point, name).values())
        return max((len(chains.chain(file)) for file in files), default=0)

    def drop_point(self, ident: str) -> None:
        """There is no such point any more; ``sweep`` gives its files back."""
        with self._known.turn:
            (self.folder / "points" / f"{ident}.json").unlink(missing_ok=True)
            self._known.points.pop(self.group, None)

    def sweep(self, in_use: Iterable[Path]) -> None:
        """Give files back that no point needs. A file that only lies under another is melted into one with
        it; interrupted, it is done again from where it was, and no point ever changes."""
        busy = set(in_use) | {
            below for file in (self.folder / "disks").glob("*.coming") if (below := chains.below(file))
        }
        while self._sweep_one(busy):
            pass

    def _sweep_one(self, busy: set[Path]) -> bool:
        """Give the first file back that can be; whether there was one."""
        points = self.points()
        named = [
            path
            for point in points
            for machine in point["machines"]
            for path in self.disks(point, machine).values()
        ]
        needed: set[Path] = set()
        for path in reversed(named):
            if path not in needed:
                needed.update(chains.chain(path))
        lies_over = {file: chains.below(file) for file in sorted((self.folder / "disks").glob("*.qcow2"))}
        for file in lies_over:
            if file in named or file in busy:
                continue
            upper = [one for one, lower in lies_over.items() if lower == file]
            if not upper and file not in needed:
                file.unlink()
                return True
            if len(upper) == 1 and upper[0] not in busy and not _would_be_clear(file, upper[0]):
                self._melt(
                    file, upper[0], [one for one, lower in lies_over.items() if lower == upper[0]], points
                )
                return True
        return False

    def _melt(self, file: Path, upper: Path, over: list[Path], points: list[dict[str, Any]]) -> None:
        """Write the upper into the file below it; what lay over that lies over this one then."""
        images.forget_bitmaps(file)
        images.melt(upper)
        for one in over:
            images.lay_over(one, Image(file))
        for point in points:
            held = [disk for machine in point["machines"].values() for disk in machine["disks"].values()]
            if upper.name in [disk["file"] for disk in held]:
                for disk in held:
                    disk["file"] = file.name if disk["file"] == upper.name else disk["file"]
                self.save_point(point)
        upper.unlink()

    def forget(self, in_use: Iterable[Path]) -> None:
        """No points any more; files that something lies over stay."""
        for point in self.points():
            self.drop_point(point["id"])
        busy = set(in_use)
        for file in (*self.live.glob("*"), *(self.folder / "disks").glob("*")):
            if file not in busy:
                file.unlink()
        if not busy.intersection(self.folder.rglob("*")):
            shutil.rmtree(self.folder, ignore_errors=True)


class _Plan:
    """What has to come for one disk."""

    def __init__(
        self, machine: str, disk: str, file: Path, size: int, ranges: list[Range], *, compare: bool
    ) -> None:
        self.machine = machine
        self.disk = disk
        self.file = file
        self.size = size
        self.ranges = ranges
        self.compare = compare

    @property
    def amount(self) -> int:
        """Bytes at most."""
        return sum(one.length for one in self.ranges)


def _would_be_clear(file: Path, upper: Path) -> bool:
    """Whether what is encrypted would be written to a file that is not: what a machine of this site wrote to
    before it was given up."""
    return chains.encrypted(Image(upper)) and not chains.encrypted(Image(file))


def _let_go(other: Other, ident: str, *, received: bool) -> None:
    """The other side ends a point by itself when nobody reads it, so that it cannot be told is no fault."""
    with suppress(AgentAway):
        other.close(ident, received=received)


def _differing(handle: Any, hashes: Iterable[bytes], ranges: list[Range]) -> Iterator[Range]:
    """Blocks of these ranges that are not as their hashes say."""
    hashes = iter(hashes)
    for one in ranges:
        for at in range(one.offset, one.offset + one.length, CHUNK):
            data = handle.pread(min(CHUNK, one.offset + one.length - at), at)
            for inner in range(0, len(data), BLOCK):
                block = data[inner : inner + BLOCK]
                if hash_of(block) != next(hashes):
                    yield Range(at + inner, len(block))


def _clear(handle: Any, one: Range) -> None:
    """Make a range zeros, writing only where it is not."""
    for at in range(one.offset, one.offset + one.length, CHUNK):
        length = min(CHUNK, one.offset + one.length - at)
        data = handle.pread(length, at)
        if data.count(0) != len(data):
            handle.zero(length, at)
