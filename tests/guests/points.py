"""Points of real machines that count, and what was counted to in them."""

from __future__ import annotations

import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import Any

from maestoso.agents.libvirt.copies import Copies
from tests.e2e.application import until
from tests.guests.lab import AWAY, HOME, Sites, definition_of


class Points(unittest.TestCase):
    """A database, and an application that counts on both its disks first and then in the database."""

    def setUp(self) -> None:
        self.sites = Sites(self)
        self.sites.start_production()
        self.home, self.away = self.sites.agents[HOME], self.sites.agents[AWAY]

    def protect(self, code: str, members: tuple[str, ...]) -> None:
        """Copy machines as a group, now and then only when asked."""
        specs = self.home.get("/inventory", "Inventory")["workloads"]
        group = {**definition_of(self.sites, interval_s=3600), "code": code, "members": list(members)}
        wanted = [spec for spec in specs if spec["name"] in members]
        self.away.done("protect", code, group=group, digest=code, workloads=wanted, link=None)
        until(lambda: self.newest(code), f"a first point of {code}")

    def newest(self, code: str) -> Any:
        """How the newest point of a group is said to be."""
        found = next(one for one in self.away.get("/pulse", "SitePulse")["groups"] if one["group"] == code)
        return found["newest"]

    def sync(self, code: str) -> dict[str, dict[str, Path]]:
        """A new point; the files of each machine at it."""
        self.away.done("sync", code, group=code)
        held = Copies(self.sites.lab.folder / AWAY / "copies").of(code)
        point = held.point(None)
        return {name: held.disks(point, name) for name in point["machines"]}

    def counts(self, code: str, name: str, files: dict[str, dict[str, Path]]) -> tuple[int, int]:
        """What both disks of a machine had counted to at a point."""
        with tempfile.TemporaryDirectory() as folder:
            raw = Path(folder) / "raw"
            subprocess.run(
                ["qemu-img", "convert", "-U", "-O", "raw", str(files[name]["vda"]), str(raw)], check=True
            )
            # As a machine would that comes up from it: the journal first.
            subprocess.run(["e2fsck", "-fy", str(raw)], capture_output=True, check=False)
            said = subprocess.run(["debugfs", "-R", "cat /count", str(raw)], capture_output=True, check=True)
            first = said.stdout
            subprocess.run(
                ["qemu-img", "convert", "-U", "-O", "raw", str(files[name]["vdb"]), str(raw)], check=True
            )
            second = raw.read_bytes()[:512]
        return _number(first), _number(second)


def _number(text: bytes) -> int:
    return int(text.strip(b"\0\n ") or b"0")
