"""Rules of the agent for libvirt hosts that need no machine: what it trusts, whom it asks, how fast it reads."""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import unittest
from collections import defaultdict
from pathlib import Path
from typing import Any
from unittest import mock
from xml.etree import ElementTree

import httpx
from starlette.applications import Starlette

from maestoso.agent_kit.platform import Failure
from maestoso.agents.libvirt import chains, copying, definition, encryption, guest_machines, images, probes
from maestoso.agents.libvirt.between import routes
from maestoso.agents.libvirt.copies import Copies
from maestoso.agents.libvirt.guest_machines import GuestMachines
from maestoso.core.codec import to_data
from maestoso.core.model.protection import Policy
from tests.e2e.application import until
from tests.guests.lab import needs_real_machines


@needs_real_machines
class Trusting(unittest.TestCase):
    """What a machine wrote says nothing about files of the host."""

    def test_a_raw_disk_that_was_made_to_look_like_another_kind_stays_raw(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            secret, disk = Path(folder) / "secret", Path(folder) / "disk"
            secret.write_bytes(b"not for machines".ljust(1 << 20))
            written = ["-f", "qcow2", "-b", str(secret), "-F", "raw", str(disk)]
            subprocess.run(["qemu-img", "create", "-q", *written], check=True)
            with disk.open("ab") as file:
                file.truncate(1 << 20)
            definition_of_it = f"<domain><devices><disk type='file'><source file='{disk}'/><target dev='vda'/></disk></devices></domain>"
            (told,) = definition.disks(ElementTree.fromstring(definition_of_it))
            self.assertEqual(told.format, "raw")
            self.assertEqual(chains.chain(told.file, told.format), [disk])
            with images.opened(told.file, told.format) as handle:
                self.assertEqual(
                    bytes(handle.pread(4, 0)), b"QFI\xfb", "its own bytes, and not what it points to"
                )
            over = Path(folder) / "over.qcow2"
            images.create(over, below=chains.Image(told.file, told.format))
            self.assertEqual(chains.chain(over), [over, disk])


@needs_real_machines
class Chains(unittest.TestCase):
    """What a file lies over is read from its header, as QEMU reads it."""

    def test_it_is_what_the_program_says_and_no_program_is_started(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            base, top = Path(folder) / "base", Path(folder) / "top.qcow2"
            base.write_bytes(b"QFI\xfb".ljust(1 << 20))
            for name, over, kind, more in (
                ("old.qcow2", str(base), "raw", ["-o", "compat=0.10"]),
                ("marked.qcow2", str(Path(folder) / "old.qcow2"), "qcow2", []),
                ("plain.qcow2", "marked.qcow2", "qcow2", []),
                ("top.qcow2", str(Path(folder) / "plain.qcow2"), "qcow2", ["-o", "cluster_size=4096"]),
            ):
                made = ["-f", "qcow2", *more, "-b", over, "-F", kind, str(Path(folder) / name)]
                subprocess.run(["qemu-img", "create", "-q", *made], check=True)
                if name == "marked.qcow2":
                    subprocess.run(["qemu-img", "bitmap", "--add", str(Path(folder) / name), "b"], check=True)
            told = subprocess.run(
                ["qemu-img", "info", "-f", "qcow2", "--backing-chain", "--output=json", str(top)],
                capture_output=True, check=True,
            )  # fmt: skip
            with mock.patch.object(images, "_run", side_effect=AssertionError):
                found = chains.chain(top)
            self.assertEqual(found, [Path(one["filename"]) for one in json.loads(told.stdout)])
            self.assertEqual(chains.below(top), Path(folder) / "plain.qcow2")
            for broken in (b"", b"QFI\xfb", b"nothing of the kind".ljust(200), top.read_bytes()[:110]):
                (Path(folder) / "broken").write_bytes(broken)
                with self.subTest(broken[:8]), self.assertRaises(images.ImageFault):
                    chains.chain(Path(folder) / "broken")


class Store:
    """What the kit keeps, as far as it is asked here."""

    def __init__(self, boxes: dict[str, Any]) -> None:
        self.boxes = boxes

    def notes(self, prefix: str) -> dict[str, Any]:
        """The isolated networks."""
        return self.boxes


@needs_real_machines
class Asking(unittest.TestCase):
    """A copy of a test is asked from inside of its networks, or not at all."""

    def site(self, boxes: dict[str, Any], *, there: bool, **kept: Any) -> GuestMachines:
        """A site with one machine, and isolated networks that are noted, or there, or both."""
        found = GuestMachines.__new__(GuestMachines)
        found.store = Store(boxes)  # type: ignore[assignment]
        found.hypervisor = mock.Mock(kept=lambda name: kept)
        found.isolation = mock.Mock(there=lambda mark: there, within=lambda mark, work: work())
        return found

    def asked(self, site: GuestMachines) -> int:
        """How often the address was asked from outside or inside."""
        with mock.patch.object(probes, "ask") as ask:
            site._ask("db--t1", {"protocol": "tcp", "port": 80})
        return ask.call_count

    def test_production_never_answers_for_a_copy_whose_networks_are_gone(self) -> None:
        told = {"addresses": [["mac", {"addresses": ["192.0.2.11/24"]}]], "test": True, "mark": "t1"}
        boxes = {"lan-t1": {"mark": "t1", "like": "lan", "routers": []}}
        self.assertEqual(self.asked(self.site(boxes, there=True, **told)), 1)
        with self.assertRaisesRegex(Failure, "not there any more"):
            self.asked(self.site(boxes, there=False, **told))
        # In a fixed sandbox, which is a network of the host, there is nothing to be inside of.
        self.assertEqual(self.asked(self.site({}, there=False, **told)), 1)

    def test_whatever_is_fenced_gets_no_power_however_it_is_asked_for(self) -> None:
        with self.assertRaises(Failure) as caught:
            self.site({}, there=False, fenced=True)._start("db")
        self.assertEqual(caught.exception.code, "fenced")

    def test_a_guest_that_has_no_address_yet_is_asked_again_soon(self) -> None:
        bare, found = {"mac": {"addresses": []}}, {"mac": {"addresses": ["192.0.2.11/24"]}}
        said: list[dict[str, Any]] = [bare, bare, found]
        kept: dict[str, Any] = {}
        site = self.site({}, there=False)
        site.hypervisor = mock.Mock(names=lambda: ["db"], keep=lambda name, **noted: kept.update(noted))
        site._seen_at, site._bare = {}, defaultdict(int)
        site._work = mock.Mock(submit=lambda work, *told: work(*told))
        with (
            mock.patch.object(guest_machines.guests, "adapters", side_effect=lambda *_: said.pop(0)),
            mock.patch.object(guest_machines.time, "monotonic") as clock,
        ):
            for now, left in ((1000.0, 2), (1004.0, 2), (1006.0, 1), (1012.0, 1), (1017.0, 0), (1300.0, 0)):
                clock.return_value = now
                site.look_after_guests()
                self.assertEqual(len(said), left, now)
            with self.assertRaises(IndexError, msg="it is asked again in the end"):
                clock.return_value = 1318.0
                site.look_after_guests()
        self.assertEqual(kept["adapters"], {"mac": {"addresses": ["192.0.2.11/24"]}})

    def test_what_need_not_answer_is_there_unless_its_host_says_otherwise(self) -> None:
        with (
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line,
            mock.patch.object(probes, "UDP_S", 0.05),
        ):
            line.bind(("127.0.0.1", 0))
            port = line.getsockname()[1]
            probes.ask("127.0.0.1", {"protocol": "udp", "port": port})
        with self.assertRaises(Failure) as caught:
            probes.ask("127.0.0.1", {"protocol": "udp", "port": port})
        self.assertEqual(caught.exception.code, "no-answer")


@needs_real_machines
class Keeping(unittest.TestCase):
    """How many points there can be."""

    def test_a_policy_from_which_no_machine_could_come_up_is_refused_with_its_number(self) -> None:
        policy = to_data(Policy(interval_s=60, rpo_s=600))
        with self.assertRaisesRegex(
            Failure, r"up to 41\d points at once, and this agent can keep 150"
        ) as caught:
            copying.check_policy(policy)
        self.assertEqual(caught.exception.code, "bad-definition")
        for fits in ({"most_points": 150}, {"keep_all_s": 3600}, {"interval_s": 300}):
            copying.check_policy({**policy, **fits})


DIES_AT_ONCE = """
import os, sys
from pathlib import Path
from maestoso.agents.libvirt import images
images._answering = lambda process, *rest: (print(process.pid, flush=True), os.kill(os.getpid(), 9))
with images.opened(Path(sys.argv[1])):
    pass
"""


@needs_real_machines
class ServingDisks(unittest.TestCase):
    """A disk is read through a program that serves it."""

    def test_whoever_serves_it_ends_with_an_agent_that_was_killed_before_it_came(self) -> None:
        self.ends(dict(os.environ))

    def test_it_does_not_even_begin_where_the_agent_was_killed_before_that(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            late = Path(folder) / "setpriv"
            real = shutil.which("setpriv")
            late.write_text(
                f'#!/bin/sh\nwhile kill -0 $PPID 2>/dev/null; do sleep 0.05; done\nexec {real} "$@"\n'
            )
            late.chmod(0o755)
            self.ends({**os.environ, "PATH": f"{folder}:{os.environ['PATH']}"})

    def ends(self, env: dict[str, str]) -> None:
        """Let an agent die as it begins to serve a disk, and wait until nobody serves it."""
        with tempfile.TemporaryDirectory() as folder:
            disk = Path(folder) / "disk.qcow2"
            subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", str(disk), "1M"], check=True)
            killed = subprocess.run(
                [sys.executable, "-c", DIES_AT_ONCE, str(disk)],
                env=env, stdout=subprocess.PIPE, text=True, check=False,
            )  # fmt: skip
            self.assertEqual(killed.returncode, -9)
            served = Path(f"/proc/{killed.stdout.strip()}/cmdline")

            def gone() -> bool:
                try:
                    return str(disk).encode() not in served.read_bytes()
                except OSError:
                    return True

            until(gone, "the program to end", 20)


@needs_real_machines
class Opening(unittest.TestCase):
    """Which key copies are encrypted with."""

    def test_another_key_is_refused_while_files_of_the_first_are_there(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        site = copying.Copying.__new__(copying.Copying)
        site.copies = Copies(Path(folder.name))
        site.hypervisor = mock.Mock(names=list)
        site.clones = Path(folder.name) / "clones"
        site.store = mock.Mock(note=lambda name: None)
        site._group_turns, site._copying = defaultdict(threading.RLock), {}
        held = site.copies.of("shop")
        self.addCleanup(encryption.let_go, held.folder)
        (held.folder / "disks").mkdir(parents=True)

        def asked(key: str) -> Any:
            group = {"policy": {"encrypted": True}}
            return mock.Mock(subject="shop", args={"group": group}, secrets={"key": key}, again=False)

        site._take_key(asked("a key of some length"), lasting=True)
        kept = held.key
        assert kept is not None
        with self.assertRaisesRegex(Failure, f"another key \\({kept.fingerprint}, and this one is"):
            site._take_key(asked("another key of that length"), lasting=False)
        self.assertEqual(held.key, kept)
        self.assertEqual(site.hypervisor.keep_key.call_count, 1, "libvirt's own is as it was")
        site._take_key(asked("a key of some length"), lasting=False)
        site.unprotect(asked(""))
        site.hypervisor.forget_key.assert_called_once_with(held.folder)
        self.assertEqual((held.key, held.folder.exists()), (None, False))
        site._take_key(asked("another key of that length"), lasting=False)
        self.assertNotEqual(held.key, kept)


@needs_real_machines
class Between(unittest.TestCase):
    """The line between two sites."""

    def test_all_groups_together_are_as_fast_as_the_line_has_room(self) -> None:
        pace = copying._Pace()
        pace.room = lambda: 100.0
        with mock.patch.object(copying.time, "sleep") as slept, mock.patch.object(
            copying.time, "monotonic", return_value=pace._free_at
        ):  # fmt: skip
            for amount in (100, 50, 100):
                pace(amount)
        self.assertEqual([round(call.args[0], 6) for call in slept.call_args_list], [1.0, 1.5, 2.5])

    def test_what_cannot_be_read_is_refused_and_nobody_is_let_in_without_the_secret(self) -> None:
        source, secret = mock.Mock(), "0123456789abcdef" * 2
        way = httpx.ASGITransport(Starlette(routes=routes(source, {"BIR": secret})))

        async def asked(method: str, path: str, given: str, body: Any = None) -> httpx.Response:
            headers = {"Authorization": f"Bearer {given}"}
            async with httpx.AsyncClient(transport=way, base_url="http://agent.example") as line:
                return await line.request(method, path, json=body, headers=headers)

        self.assertEqual(asyncio.run(asked("GET", "/copies", "another")).status_code, 401)
        self.assertEqual(asyncio.run(asked("GET", "/copies", secret)).status_code, 200)
        for path, body in (
            ("/copies/points", {"group": "shop"}),
            ("/copies/points", {"group": "shop", "members": ["db"], "application": False}),
            ("/copies/points/p/db/vda/blocks", {"ranges": [1]}),
            ("/copies/points/p/db/vda/hashes", {}),
        ):
            answer = asyncio.run(asked("POST", path, secret, body))
            self.assertEqual((answer.status_code, answer.json()["code"]), (400, "bad-value"), path)
        source.open.assert_not_called()


if __name__ == "__main__":
    unittest.main()
