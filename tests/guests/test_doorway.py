"""Front doors of a host with the kernel's own network: translated, limited, told to the segment, and gone."""

from __future__ import annotations

import os
import socket
import subprocess
import threading
import unittest
from contextlib import suppress
from pathlib import Path

from maestoso.agents.libvirt.doorway import Addresses, Translation, Way
from maestoso.agents.libvirt.networks import inside, ip
from tests.guests.lab import needs_real_machines

DOOR, PORT = "10.99.0.33", 8080
WAY = Way(DOOR, "tcp", PORT, "10.99.1.2")


@needs_real_machines
class AHost(unittest.TestCase):
    """Between a client outside and a machine inside."""

    def setUp(self) -> None:
        self.host, self.outside, self.within = (f"maestoso-d{os.getpid()}-{part}" for part in ("h", "o", "i"))
        for space in (self.host, self.outside, self.within):
            ip("netns", "add", space)
            self.addCleanup(ip, "netns", "delete", space)
        for here, there, net in (("line", self.outside, "10.99.0"), ("lan", self.within, "10.99.1")):
            ip("-n", self.host, "link", "add", here, "type", "veth", "peer", "name", "far", "netns", there)
            for space, device, last in ((self.host, here, 1), (there, "far", 2)):
                ip("-n", space, "address", "add", f"{net}.{last}/24", "dev", device)
                ip("-n", space, "link", "set", device, "up")
        ip("-n", self.within, "route", "add", "default", "via", "10.99.1.1")
        inside(self.host, lambda: Path("/proc/sys/net/ipv4/ip_forward").write_text("1"))
        machine = inside(self.within, lambda: socket.create_server(("10.99.1.2", PORT)))
        self.addCleanup(machine.close)
        threading.Thread(target=self.serve, args=(machine,), daemon=True).start()
        self.translation, self.addresses = Translation("TST"), Addresses("line", ["10.99.0.32/28"])

    def serve(self, machine: socket.socket) -> None:
        """Say to everybody where they come from."""
        with suppress(OSError):
            while True:
                client, who = machine.accept()
                with client:
                    client.sendall(who[0].encode())

    def have(self, *ways: Way) -> None:
        """As the agent does it."""
        inside(self.host, lambda: self.addresses.have({way.address for way in ways}))
        inside(self.host, lambda: self.translation.have(ways))

    def come(self) -> str:
        """What a client outside hears; nothing where nobody answers."""

        def ask() -> str:
            with suppress(OSError), socket.create_connection((DOOR, PORT), timeout=3) as line:
                return line.recv(100).decode()
            return ""

        return inside(self.outside, ask)

    def test_a_client_comes_in_as_itself_and_after_it_is_closed_nobody_does(self) -> None:
        self.assertEqual(self.come(), "")
        self.have(WAY)
        self.assertEqual(self.come(), "10.99.0.2")
        self.have()
        self.assertEqual(self.come(), "")
        self.assertNotIn(DOOR, ip("-n", self.host, "address", "show", "dev", "line"))
        self.assertIn(
            "10.99.0.1", ip("-n", self.host, "address", "show", "dev", "line"), "the host's own stays"
        )

    def test_only_from_where_it_is_open_to(self) -> None:
        self.have(Way(DOOR, "tcp", PORT, "10.99.1.2", ("192.0.2.0/24",)))
        self.assertEqual(self.come(), "")
        self.have(Way(DOOR, "tcp", PORT, "10.99.1.2", ("192.0.2.0/24", "10.99.0.0/24")))
        self.assertEqual(self.come(), "10.99.0.2")

    def test_rules_that_somebody_else_took_away_come_again_and_theirs_stay(self) -> None:
        def nft(*words: str) -> str:
            done = inside(
                self.host, lambda: subprocess.run(["nft", *words], text=True, check=True, capture_output=True)
            )
            return str(done.stdout)

        self.have(WAY)
        nft("flush", "ruleset")
        nft("add", "table", "ip", "theirs")
        self.assertEqual(self.come(), "")
        self.have(WAY)
        self.assertEqual(self.come(), "10.99.0.2")
        self.assertIn("table ip theirs", nft("list", "tables"))

    def test_who_had_the_address_before_is_forgotten_at_once(self) -> None:
        self.have(WAY)
        ip(
            "-n",
            self.outside,
            "neighbor",
            "replace",
            DOOR,
            "lladdr",
            "02:00:5e:00:53:99",
            "dev",
            "far",
            "nud",
            "stale",
        )
        self.have()
        self.have(WAY)
        self.assertEqual(self.come(), "10.99.0.2")


if __name__ == "__main__":
    unittest.main()
