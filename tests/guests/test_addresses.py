"""What a guest is made to do with its addresses, in a file system of its own: at once, and for later
starts."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import Any

from maestoso.agents.libvirt import guests
from tests.guests.lab import needs_real_machines

OTHERS = """\
source /etc/network/interfaces.d/*
auto lo eth9
iface eth9 inet static
  address 192.0.2.99
"""
LOOPBACK = "00:00:00:00:00:00"
"""The one adapter that every host has; the program that would change it is another one here."""
TOLD: dict[str, Any] = {
    "addresses": ["192.0.2.18/24", "2001:db8::18/64"], "gateways": ["192.0.2.1"], "dns": ["192.0.2.53"],
    "suffix": "office.example",
}  # fmt: skip


@needs_real_machines
class Addresses(unittest.TestCase):
    """With programs that only write down how they were called."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.etc = self.folder / "etc"
        (self.folder / "bin").mkdir()
        shutil.copytree("/etc/alternatives", self.etc / "alternatives", symlinks=True)
        (self.etc / "resolv.conf").write_text("nameserver 192.0.2.1\n")
        self.program("ip")

    def program(self, name: str) -> None:
        """One that notes its arguments."""
        file = self.folder / "bin" / name
        file.write_text(f'#!/bin/sh\necho {name} "$@" >> {self.folder}/called\n')
        file.chmod(0o755)

    def given(self, told: dict[str, Any], mac: str = LOOPBACK) -> subprocess.CompletedProcess[str]:
        """Give an adapter its settings, with ``etc`` as the guest's."""
        env = {**guests.settings_of(mac, told), "PATH": f"{self.folder}/bin:{os.defpath}:/usr/sbin:/sbin"}
        command = ["unshare", "-m", "sh", "-c", f"mount --bind {self.etc} /etc && exec sh"]
        return subprocess.run(command, input=guests.SET, env=env, capture_output=True, text=True, check=False)

    def called(self) -> list[str]:
        """How the programs were called."""
        return (self.folder / "called").read_text().splitlines()

    def test_with_ifupdown_they_last_and_other_adapters_stay_as_they_are(self) -> None:
        (self.etc / "network").mkdir()
        interfaces = self.etc / "network" / "interfaces"
        interfaces.write_text(
            f"{OTHERS}auto lo\niface lo inet static\n  address 192.0.2.7\n  gateway 192.0.2.9\n"
        )
        for _ in range(2):
            done = self.given(TOLD)
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            said = interfaces.read_text()
            self.assertIn("iface eth9 inet static\n  address 192.0.2.99\n", said)
            self.assertIn("source /etc/network/interfaces.d/*", said)
            self.assertEqual(said.count("iface lo inet static"), 1)
            self.assertNotIn("192.0.2.7\n", said)
            self.assertIn(
                "iface lo inet static\n  address 192.0.2.18\n  netmask 255.255.255.0\n  gateway 192.0.2.1\n",
                said,
            )
            self.assertIn("iface lo inet6 static\n  address 2001:db8::18\n  netmask 64\n", said)
        self.assertEqual(
            (self.etc / "resolv.conf").read_text(), "search office.example\nnameserver 192.0.2.53\n"
        )
        self.assertIn("ip addr add 192.0.2.18/24 dev lo", self.called())
        self.assertIn("ip route replace default via 192.0.2.1 dev lo", self.called())

    def test_one_that_shall_ask_for_its_address_does(self) -> None:
        (self.etc / "network").mkdir()
        for name in ("ifup", "ifdown"):
            self.program(name)
        done = self.given({"addresses": [], "gateways": [], "dns": [], "dhcp": True})
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("iface lo inet dhcp", (self.etc / "network" / "interfaces").read_text())
        self.assertIn("ifup lo", self.called())

    def test_with_systemd_networkd_there_is_a_file_before_all_others(self) -> None:
        (self.etc / "systemd" / "network").mkdir(parents=True)
        self.program("networkctl")
        done = self.given(TOLD)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        said = (self.etc / "systemd" / "network" / "00-lo.network").read_text().splitlines()
        for line in (f"MACAddress={LOOPBACK}", "Address=192.0.2.18/24", "Address=2001:db8::18/64",
                     "Gateway=192.0.2.1", "DNS=192.0.2.53", "Domains=office.example"):  # fmt: skip
            self.assertIn(line, said)

    def test_where_they_would_not_last_or_the_adapter_is_not_there_that_is_said(self) -> None:
        done = self.given(TOLD)
        self.assertEqual(done.returncode, 5)
        self.assertIn("neither ifupdown nor systemd-networkd", done.stdout)
        done = self.given(TOLD, "52:54:00:00:00:99")
        self.assertEqual(done.returncode, 4)
        self.assertIn("52:54:00:00:00:99", done.stdout)


if __name__ == "__main__":
    unittest.main()
