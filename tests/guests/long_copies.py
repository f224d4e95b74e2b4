"""What is in the copies of real machines: every byte, and no more bytes than differ; and who stands still goes on."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import unittest
from dataclasses import replace
from typing import Any
from unittest.mock import patch

from maestoso.agents.libvirt import images
from maestoso.agents.libvirt.between import AgentAway, Other
from maestoso.agents.libvirt.chains import Image
from maestoso.agents.libvirt.files import write
from maestoso.agents.libvirt.settings import OtherSite
from tests.e2e.application import until
from tests.guests.lab import (
    AWAY,
    GUESTS,
    HOME,
    MEMBERS,
    Sites,
    definition_of,
    left_on_the_host,
    needs_real_machines,
)
from tests.guests.points import Points

FIRST_DISK_BYTES = 64 << 20


@needs_real_machines
class Copying(Points):
    """A database, and an application that counts on both its disks first and then in the database."""

    def test_every_byte_is_there_and_only_what_differs_is_copied(self) -> None:
        self.protect("shop", MEMBERS)
        self.assertLess(self.newest("shop")["changed_bytes"], FIRST_DISK_BYTES, "zeros are not copied")
        self.sync("shop")
        self.assertLess(self.newest("shop")["changed_bytes"], 4 << 20, "bitmaps tell what changed")

        pid = self.sites.lab.machines(HOME)["app"]
        os.kill(pid, signal.SIGKILL)
        until(lambda: "app" in self.home.get("/pulse", "SitePulse")["off"], "it to be gone")
        self.home.done("power-on", "app")
        self.home.done("await-heartbeat", "app", timeout_s=300)
        self.sync("shop")
        changed = self.newest("shop")["changed_bytes"]
        self.assertLess(changed, 8 << 20, "after SIGKILL no bitmap tells, and blocks are compared")

        for name in MEMBERS:
            self.home.done("shut-down", name, limit_s=300, force=False)
        files = self.sync("shop")
        self.assertLess(self.newest("shop")["changed_bytes"], 8 << 20)
        for name in MEMBERS:
            for disk, file in zip(("vda", "vdb"), self.sites.disks(HOME, name), strict=True):
                self.assertTrue(
                    images.equal(Image(files[name][disk]), file),
                    f"{disk} of {name} is not equal to its source",
                )

    def test_machines_that_stood_still_when_the_agent_was_killed_go_on_with_the_next_one(self) -> None:
        lab = self.sites.lab
        lab.kill_agent(HOME)
        stand_still = (
            "import sys; from maestoso.agents.libvirt.hypervisor import Hypervisor;"
            "[Hypervisor(sys.argv[1]).machine(name).suspend() for name in sys.argv[2:]]"
        )
        uri = f"qemu:///embed?root={lab.root(HOME)}"
        inside = [
            "nsenter",
            f"--net=/run/netns/{lab.space(lab.site(HOME))}",
            sys.executable,
            "-c",
            stand_still,
        ]
        subprocess.run([*inside, uri, *MEMBERS], check=True)
        write(lab.folder / HOME / "standing-still.json", list(MEMBERS))
        self.assertEqual(self.sites.state(HOME), {}, "it stands still")
        lab.start_agent(HOME)
        before = until(lambda: self.sites.count(HOME), "it to answer again")
        until(lambda: self.sites.count(HOME) > before, "it to count on")

    def test_a_machine_whose_files_are_being_read_gets_its_power_all_the_same(self) -> None:
        self.home.done("shut-down", "db", limit_s=300, force=True)
        lab = self.sites.lab
        other = Other(OtherSite(
            code=HOME, address=lab.url(HOME), secret=(lab.folder / "secret").read_text().strip(),
            certificate=lab.folder / HOME / "agent.pem",
        ))  # fmt: skip
        self.addCleanup(other._client.close)
        opened = other.open("shop", {"db": {"disks": ["vda"], "since": ""}}, application=False)
        self.assertEqual(other.ranges(opened["point"], "db", "vda")[0], FIRST_DISK_BYTES)
        self.home.done("power-on", "db")
        with self.assertRaisesRegex(AgentAway, "not open here any more"):
            other.ranges(opened["point"], "db", "vda")

    def test_nothing_is_left_on_the_host(self) -> None:
        self.assertTrue(left_on_the_host(self.sites.lab))
        self.sites.lab.remove()
        self.assertEqual(left_on_the_host(self.sites.lab), [])


@needs_real_machines
class Frozen(unittest.TestCase):
    """An application that takes longer to come to an end of what it writes than its agent waits."""

    def test_a_guest_that_freezes_later_than_it_is_waited_for_writes_again(self) -> None:
        slow = r"""printf '#!/bin/sh\n[ $1 != freeze ] || sleep 20\n' >/etc/qemu/fsfreeze-hook""" + "\n"
        db, app = GUESTS
        with patch("tests.guests.lab.GUESTS", (replace(db, runs=f"{slow}{db.runs}"), app)):
            sites = Sites(self)
        sites.start_production()
        specs = sites.agents[HOME].get("/inventory", "Inventory")["workloads"]
        group = definition_of(sites, interval_s=3600, app_consistent_every_s=3600)
        sites.agents[AWAY].done("protect", "shop", group=group, digest="shop", workloads=specs, link=None)

        def newest() -> Any:
            return sites.agents[AWAY].get("/pulse", "SitePulse")["groups"][0]["newest"]

        self.assertEqual(until(newest, "a first point")["kind"], "crash-consistent")
        sites.agents[HOME].done("await-heartbeat", "db", timeout_s=120, restart=False)  # it is frozen by now
        before = sites.count(HOME)
        until(lambda: sites.count(HOME) > before, "the database to count on", 60)


if __name__ == "__main__":
    unittest.main()
