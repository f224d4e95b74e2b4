"""Copies as chains of files, without a machine: first copies that go on, points that are thinned out,
tests on them."""

from __future__ import annotations

import random
import tempfile
import unittest
from collections.abc import Iterator, Mapping
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, ClassVar

from maestoso.agent_kit.platform import Failure
from maestoso.agents.libvirt import chains, copies, encryption, images
from maestoso.agents.libvirt.between import AgentAway, Other
from maestoso.agents.libvirt.chains import Image, ImageFault
from maestoso.agents.libvirt.copies import Copies, GroupCopies
from maestoso.agents.libvirt.images import Range
from maestoso.agents.libvirt.source import BLOCK, hash_of
from maestoso.core.model.protection import Policy
from tests.guests.lab import needs_real_machines

SIZE = 4 << 20


class Sender(Other):
    """The other side of a copy, with one disk that is bytes."""

    def __init__(self, data: bytes) -> None:
        self.data = bytearray(data)
        self.changed: list[Range] | None = None
        self.point = 0
        self.breaks_after = 10**9
        self.sent = 0
        self.received: list[str] = []

    def write(self, offset: int, data: bytes) -> None:
        """The machine writes, and a bitmap notes it."""
        self.data[offset : offset + len(data)] = data
        block = Range(offset - offset % BLOCK, BLOCK)
        self.changed = images.merged([*(self.changed or []), block])

    def open(
        self, group: str, members: Mapping[str, Mapping[str, Any]], *, application: bool
    ) -> dict[str, Any]:
        self.point += 1
        at = datetime(2026, 1, 1, tzinfo=UTC) + timedelta(minutes=self.point)
        machine = {
            "xml": "<domain/>",
            "contents": at.timestamp(),
            "promoted_from": "",
            "disks": {"vda": SIZE},
        }
        kind = "application-consistent" if application else "crash-consistent"
        return {
            "point": f"maestoso-{self.point:03}",
            "at": at.isoformat(),
            "kind": kind,
            "machines": {"db": machine},
        }

    def close(self, point: str, *, received: bool) -> None:
        if received:
            self.received.append(point)
            self.changed = []

    def ranges(self, point: str, machine: str, disk: str) -> tuple[int, list[Range], list[Range] | None]:
        blocks = range(0, SIZE, BLOCK)
        data = [Range(at, BLOCK) for at in blocks if any(self.data[at : at + BLOCK])]
        return SIZE, images.merged(data), self.changed

    def hashes(self, point: str, machine: str, disk: str, ranges: list[Range]) -> Iterator[bytes]:
        for one in ranges:
            for at in range(one.offset, one.offset + one.length, BLOCK):
                yield hash_of(self.data[at : at + BLOCK])

    def blocks(
        self, point: str, machine: str, disk: str, ranges: list[Range]
    ) -> Iterator[tuple[int, int, bytes | None]]:
        for one in ranges:
            for at in range(one.offset, one.offset + one.length, BLOCK):
                if self.sent >= self.breaks_after:
                    raise AgentAway("the line broke")
                self.sent += 1
                block = bytes(self.data[at : at + BLOCK])
                yield at, BLOCK, block if any(block) else None


@needs_real_machines
class Chains(unittest.TestCase):
    """One group with one disk."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.random = random.Random(7)
        self.other = Sender(self.random.randbytes(2 << 20) + bytes(SIZE - (2 << 20)))
        self.held: GroupCopies = Copies(self.folder / "copies").of("shop")

    def receive(self, **more: Any) -> dict[str, Any]:
        """A new point."""
        members = {"db": {"disks": ["vda"]}}
        return self.held.receive(
            self.other,
            members,
            **{"application": False, "bases": {}, "told": _nobody, "pace": _at_once, **more},
        )

    def contents(self, ident: str) -> bytes:
        """What the disk holds at a point."""
        return _read(self.held.disks(self.held.point(ident), "db")["vda"])

    def points(self, number: int) -> dict[str, bytes]:
        """Several points, each a little other than the one before; what the disk held at each."""
        found = {}
        for _ in range(number):
            found[self.receive()["id"]] = bytes(self.other.data)
            self.other.write(self.random.randrange(0, SIZE - 100), self.random.randbytes(100))
        return found

    def test_points_hold_what_was_there_and_cost_what_changed(self) -> None:
        for ident, data in self.points(4).items():
            self.assertEqual(self.contents(ident), data)
        sent = self.other.sent
        self.assertLessEqual(sent, 32 + 3 * 2, "32 blocks held something; each point changed one or two")
        self.assertEqual(len(self.other.received), 4)

    def test_a_first_copy_that_broke_goes_on_where_it_was(self) -> None:
        self.other.breaks_after = 20
        with self.assertRaises(AgentAway):
            self.receive()
        self.assertEqual(self.held.points(), [])
        self.other.breaks_after = 10**9
        self.other.write(5, b"meanwhile")
        ident = self.receive()["id"]
        self.assertEqual(self.contents(ident), bytes(self.other.data))
        self.assertLessEqual(self.other.sent, 32 + 2, "what was there was sent again")

    def test_a_later_one_that_broke_leaves_all_as_it_was(self) -> None:
        before = self.points(2)
        for at in range(0, SIZE, 2 * BLOCK):
            self.other.write(at, b"x")
        self.other.breaks_after = self.other.sent + 3
        with self.assertRaises(AgentAway):
            self.receive()
        self.assertEqual([point["id"] for point in self.held.points()], list(before))
        self.other.breaks_after = 10**9
        self.assertEqual(self.contents(self.receive()["id"]), bytes(self.other.data))
        for ident, data in before.items():
            self.assertEqual(self.contents(ident), data)

    def test_when_nobody_knows_what_changed_blocks_are_compared(self) -> None:
        self.points(1)
        sent, self.other.changed = self.other.sent, None
        self.other.data[100 * 1024 : 100 * 1024 + 3] = b"abc"
        self.other.data[:BLOCK] = bytes(BLOCK)  # and what is zeros now is zeros here, too
        self.assertEqual(self.contents(self.receive()["id"]), bytes(self.other.data))
        self.assertLessEqual(self.other.sent - sent, 2, "one more was written after the point")

    def test_a_carried_disk_is_taken_as_a_seed(self) -> None:
        (self.held.folder / "seed").mkdir(parents=True)
        (self.held.folder / "seed" / "db-vda.raw").write_bytes(bytes(self.other.data))
        self.other.write(3 << 20, b"newer")
        self.other.changed = None
        self.assertEqual(self.contents(self.receive()["id"]), bytes(self.other.data))
        self.assertLessEqual(self.other.sent, 1)

    def test_points_are_thinned_out_and_those_that_stay_do_not_change(self) -> None:
        before = self.points(6)
        policy = asdict(
            Policy(interval_s=60, rpo_s=600, keep_all_s=60, keep_hourly_s=0, keep_daily_s=0, most_points=2)
        )
        now = (datetime(2026, 1, 1, tzinfo=UTC) + timedelta(minutes=6, seconds=30)).timestamp()
        pinned = list(before)[1]
        self.held.save_point({**self.held.point(pinned), "label": "before the upgrade"})
        self.held.thin(policy, now, [])
        stay = [point["id"] for point in self.held.points()]
        self.assertEqual(stay, [pinned, list(before)[-1]])
        for ident in stay:
            self.assertEqual(self.contents(ident), before[ident])
        self.assertEqual(len(list((self.held.folder / "disks").iterdir())), 2, "a file for each point")

    def test_what_lies_over_a_point_keeps_it_though_the_point_goes(self) -> None:
        before = self.points(4)
        ids = list(before)
        clone = self.folder / "clone.qcow2"
        images.create(clone, below=Image(self.held.disks(self.held.point(ids[1]), "db")["vda"]))
        for ident in ids[:3]:
            self.held.drop_point(ident)
        self.held.sweep(chains.chain(clone))
        self.assertEqual(_read(clone), before[ids[1]])
        self.assertEqual(self.contents(ids[3]), before[ids[3]])
        clone.unlink()
        self.held.sweep([])
        self.assertEqual(self.contents(ids[3]), before[ids[3]])
        self.assertEqual(len(list((self.held.folder / "disks").iterdir())), 1)

    def test_a_machine_can_come_up_from_the_newest_however_long_a_test_holds_files(self) -> None:
        before = self.points(4)
        ids = list(before)
        clone = self.folder / "clone.qcow2"
        images.create(clone, below=Image(self.held.disks(self.held.point(ids[3]), "db")["vda"]))
        self.addCleanup(setattr, copies, "DEEPEST", copies.DEEPEST)
        copies.DEEPEST = 6
        before |= self.points(5)
        pinned = list(before)[5]
        self.held.save_point({**self.held.point(pinned), "label": "before the upgrade"})
        now = (datetime(2026, 1, 1, tzinfo=UTC) + timedelta(minutes=10)).timestamp()
        self.held.thin(asdict(Policy(interval_s=60, rpo_s=600)), now, chains.chain(clone))
        stay = [point["id"] for point in self.held.points()]
        self.assertEqual(stay, [*ids[:3], ids[3], pinned, list(before)[-1]])
        newest = self.held.disks(self.held.point(None), "db")["vda"]
        self.assertEqual(len(chains.chain(newest)), 6)
        for ident in stay:
            self.assertEqual(self.contents(ident), before[ident])
        self.assertEqual(_read(clone), before[ids[3]])

    def test_a_sweep_that_was_interrupted_anywhere_is_done_again(self) -> None:
        for stop in range(1, 6):
            with self.subTest(stop=stop):
                self.setUp()
                before = self.points(3)
                ids = list(before)
                self.held.drop_point(ids[0])
                calls = [0]
                with _stopping(calls, stop), self.assertRaises(_Killed):
                    self.held.sweep([])
                    raise _Killed
                for ident in ids[1:]:
                    self.assertEqual(self.contents(ident), before[ident])
                self.held.sweep([])
                for ident in ids[1:]:
                    self.assertEqual(self.contents(ident), before[ident])
                self.assertEqual(len(list((self.held.folder / "disks").iterdir())), 2)

    def test_what_a_machine_had_before_it_was_given_up_lies_under_what_is_copied_back(self) -> None:
        first = next(iter(self.points(1)))
        for number in range(3):
            self.held.live.mkdir(exist_ok=True)
            lived = self.held.live / f"db-vda.{number}.qcow2"
            images.create(lived, below=Image(self.held.disks(self.held.point(None), "db")["vda"]))
            with images.opened(lived, writable=True) as handle:
                handle.pwrite(b"written here".ljust(512), 200_192)
            self.other.write(300_000 + number, b"written there")
            sent = self.other.sent
            back = self.receive(bases={("db", "vda"): Image(lived)})
            self.held.keep_below(back)
            self.assertEqual(self.contents(back["id"]), bytes(self.other.data))
            self.assertLessEqual(self.other.sent - sent, 4, "only what differs")
            self.assertEqual(list(self.held.live.iterdir()), [])
            self.held.drop_point(first)
            self.held.sweep([])
            self.assertEqual(self.contents(back["id"]), bytes(self.other.data))
            first = back["id"]
        self.assertEqual(
            len(list((self.held.folder / "disks").iterdir())), 1, "it does not grow with each way"
        )

    def test_whether_they_are_encrypted_is_said_as_soon_as_there_is_a_point(self) -> None:
        self.assertIsNone(self.held.encrypted())
        self.receive()
        self.assertEqual(self.held.encrypted(), self.held.key is not None)

    def test_names_that_would_lead_out_of_the_folder_are_refused(self) -> None:
        for name in ("..", "a/b", "", ".x", "a\0b"):
            with self.subTest(name), self.assertRaises(Failure):
                Copies(self.folder / "copies").of(name)


class EncryptedChains(Chains):
    """The same with a key: every law holds, and nothing of what was copied stands in any file."""

    EMPTY: ClassVar[list[bytes]] = []

    def setUp(self) -> None:
        super().setUp()
        self.key = encryption.made_from(self.held.folder, "shop", "a key of some length")
        encryption.hold(self.key)
        self.addCleanup(encryption.let_go, self.held.folder)
        # Whatever the folder, the passphrase is one; to make an empty file takes seconds.
        (self.held.folder / "empty").mkdir(parents=True)
        empty = self.held.folder / "empty" / f"{SIZE}.qcow2"
        if self.EMPTY:
            empty.write_bytes(self.EMPTY[0])
        else:
            images.create(self.folder / "copies" / "shop" / "first", size=SIZE)
            self.EMPTY.append(empty.read_bytes())

    def contents(self, ident: str) -> bytes:
        """What the disk holds at a point; no block of it that tells it from others is found in the files."""
        found = super().contents(ident)
        told = {found[at : at + 64] for at in range(0, SIZE, BLOCK) if any(found[at : at + 64])}
        for file in (self.held.folder / "disks").iterdir():
            if chains.encrypted(Image(file)):
                kept = file.read_bytes()
                self.assertEqual([one for one in told if one in kept], [], file.name)
        return found

    def test_a_carried_disk_is_taken_as_a_seed(self) -> None:
        seed = self.held.folder / "seed" / "db-vda.raw"
        seed.parent.mkdir(parents=True)
        seed.write_bytes(bytes(self.other.data))
        self.assertIsNone(self.held.carried("db", "vda"), "it is in clear, and would stay so")
        seed.unlink()
        images.create(seed.with_suffix(".qcow2"), size=SIZE)
        with images.opened(seed.with_suffix(".qcow2"), writable=True) as handle:
            handle.pwrite(bytes(self.other.data), 0)
        self.other.write(3 << 20, b"newer")
        self.other.changed = None
        self.assertEqual(self.contents(self.receive()["id"]), bytes(self.other.data))
        self.assertLessEqual(self.other.sent, 1)

    def test_without_its_key_it_is_no_use_and_with_another_neither(self) -> None:
        ident = self.receive()["id"]
        self.assertTrue(self.held.encrypted())
        encryption.let_go(self.held.folder)
        self.assertIsNone(self.held.key)
        with self.assertRaisesRegex(ImageFault, "its key is not here. Maestoso gives it with the group"):
            self.contents(ident)
        encryption.hold(encryption.made_from(self.held.folder, "shop", "another key of that length"))
        with self.assertRaisesRegex(ImageFault, "Invalid password"):
            self.contents(ident)
        encryption.hold(encryption.made_from(self.held.folder, "shop", "a key of some length"))
        self.assertEqual(self.contents(ident), bytes(self.other.data))

    def test_what_was_in_clear_before_is_said_and_not_written_to(self) -> None:
        encryption.let_go(self.held.folder)
        lived = self.held.live / "db-vda.0.qcow2"
        images.create(lived, size=SIZE)
        clear = lived.read_bytes()
        encryption.hold(self.key)
        first = self.receive(bases={("db", "vda"): Image(lived)})
        self.held.keep_below(first)
        self.other.write(0, b"newer")
        second = self.receive()
        self.held.drop_point(first["id"])
        self.held.sweep([])
        self.assertEqual(self.contents(second["id"]), bytes(self.other.data))
        kept = [file for file in (self.held.folder / "disks").iterdir() if not chains.encrypted(Image(file))]
        self.assertEqual([file.read_bytes() for file in kept], [clear])
        self.assertTrue(self.held.encrypted(), "no point is in clear")

    def test_two_disks_with_keys_are_compared(self) -> None:
        ident = self.receive()["id"]
        file = Image(self.held.disks(self.held.point(ident), "db")["vda"])
        raw = Image(self.folder / "raw", "raw")
        raw.file.write_bytes(bytes(self.other.data))
        self.assertTrue(images.equal(file, raw))
        self.assertTrue(images.equal(file, file))
        raw.file.write_bytes(bytes(SIZE))
        self.assertFalse(images.equal(raw, file))


def _read(disk: Path) -> bytes:
    """All that it holds."""
    with images.opened(disk) as handle:
        return bytes(handle.pread(SIZE, 0))


class _Killed(Exception):
    """As if the process ended here."""


class _stopping:
    """The nth call of what changes files ends the process, as it were, before it is done."""

    def __init__(self, calls: list[int], stop: int) -> None:
        self.calls, self.stop = calls, stop

    def __enter__(self) -> None:
        self.before = (images.melt, images.lay_over, images.forget_bitmaps)

        def counted(work: Any) -> Any:
            def call(*args: Any, **named: Any) -> Any:
                self.calls[0] += 1
                if self.calls[0] == self.stop:
                    raise _Killed
                return work(*args, **named)

            return call

        images.melt, images.lay_over = counted(images.melt), counted(images.lay_over)
        images.forget_bitmaps = counted(images.forget_bitmaps)

    def __exit__(self, *_: object) -> None:
        images.melt, images.lay_over, images.forget_bitmaps = self.before


def _nobody(done: int, total: int) -> None:
    """Nobody watches."""


def _at_once(amount: int) -> None:
    """No limit."""


if __name__ == "__main__":
    unittest.main()
