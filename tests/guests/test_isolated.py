"""Leases and names in isolated networks, asked for as a guest does."""

from __future__ import annotations

import os
import socket
import struct
import tempfile
import unittest
from contextlib import suppress
from pathlib import Path

import dns.message
import dns.query

from maestoso.agents.libvirt import leases
from maestoso.agents.libvirt.networks import Isolation, NetworkFault, inside, ip
from maestoso.agents.libvirt.resolver import Resolver
from maestoso.agents.libvirt.settings import NetworkSetting
from tests.e2e.application import until
from tests.guests.lab import needs_real_machines

MAC = "52:54:00:00:00:77"
LIKE = NetworkSetting(name="office", bridge="br0", prefixes=("10.97.0.0/24",), dns=("10.98.0.3",), dhcp=True)
"""The network at the target; copies have the addresses of production, and its gateways."""
GATEWAY = "10.98.0.1/24"
COOKIE = b"\x63\x82\x53\x63"
SUBNET, ROUTER, DNS, TYPE, END = 1, 3, 6, 53, 255


def offered(space: str, mac: str) -> tuple[str, dict[int, bytes]] | None:
    """What is offered to who asks for an address on the only device of a namespace (RFC 2131), with its
    options; None where nobody answers."""

    def ask() -> tuple[str, dict[int, bytes]] | None:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as line:
            line.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            line.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            line.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, b"nic")
            line.bind(("", 68))
            line.settimeout(1.0)
            mine = os.urandom(4)
            # Asked by broadcast, to be answered by broadcast.
            head = struct.pack("!BBBB4sHH16x16s192x", 1, 1, 6, 0, mine, 0, 0x8000, _bytes(mac))
            line.sendto(
                head + COOKIE + bytes([TYPE, 1, 1, 55, 3, SUBNET, ROUTER, DNS, END]), ("<broadcast>", 67)
            )
            with suppress(TimeoutError):
                while True:
                    answer = line.recv(2048)
                    if answer[4:8] == mine:
                        return socket.inet_ntoa(answer[16:20]), _options(answer[240:])
        return None

    return inside(space, ask)


def _bytes(mac: str) -> bytes:
    return bytes.fromhex(mac.replace(":", ""))


def _options(data: bytes) -> dict[int, bytes]:
    found, at = {}, 0
    while data[at] != END:
        found[data[at]] = data[at + 2 : at + 2 + data[at + 1]]
        at += 2 + data[at + 1]
    return found


@needs_real_machines
class IsolatedNetworks(unittest.TestCase):
    """One network of a test, and a copy in it."""

    def setUp(self) -> None:
        self.isolation, self.guest = Isolation(f"T{os.getpid()}"), f"maestoso-g{os.getpid()}"
        self.server = leases.Server(self.isolation.site, "t1", "box")
        self.addCleanup(self.isolation.remove, "t1", "box")
        self.addCleanup(self.server.end)
        self.isolation.make("t1", "box", [GATEWAY])
        ip("netns", "add", self.guest)
        self.addCleanup(ip, "netns", "delete", self.guest)
        ip("link", "add", f"mt{os.getpid()}", "type", "veth", "peer", "name", "nic", "netns", self.guest)
        ip("-n", self.guest, "link", "set", "nic", "address", MAC, "up")
        self.isolation.put_in("t1", "box", f"mt{os.getpid()}")

    def serve(self, like: NetworkSetting = LIKE) -> None:
        """As when the network is made."""
        space = self.isolation.space("t1")
        self.server.serve(space, self.isolation.bridge("box"), like, [GATEWAY])

    def given(self, address: str) -> None:
        """Wait until that is what is offered."""
        until(lambda: (offered(self.guest, MAC) or ("",))[0] == address, f"{address} to be offered", 60)

    def test_what_is_reserved_is_given_with_gateway_and_name_servers(self) -> None:
        before = self.isolation.ways_out("t1", [f"mt{os.getpid()}"])
        self.serve()
        number = self.server.number()
        self.assertTrue(number)
        leases.reserve(self.server.hosts, "TST", MAC.upper(), ["10.98.0.77/24"])
        self.server.read_anew()
        self.given("10.98.0.77")
        said = offered(self.guest, MAC)
        assert said is not None
        self.assertEqual(socket.inet_ntoa(said[1][ROUTER]), "10.98.0.1")
        self.assertEqual(socket.inet_ntoa(said[1][DNS]), "10.98.0.3")
        self.assertEqual(socket.inet_ntoa(said[1][SUBNET]), "255.255.255.0")
        leases.reserve(self.server.hosts, "TST", MAC, ["10.98.0.78/24"])
        self.server.read_anew()
        self.given("10.98.0.78")
        self.serve()
        self.assertEqual(self.server.number(), number, "a second server stands beside the first")
        self.assertEqual(self.isolation.ways_out("t1", [f"mt{os.getpid()}"]), before)

    def test_names_are_answered_at_the_gateway(self) -> None:
        ip("-n", self.guest, "address", "add", "10.98.0.9/24", "dev", "nic")
        names = {("shop.example", "A"): ("10.98.0.77",)}
        listening = Resolver(("10.98.0.1",), names, lambda work: self.isolation.within("t1", work))
        self.addCleanup(listening.close)
        asked = dns.message.make_query("shop.example", "A")
        reply = inside(self.guest, lambda: dns.query.udp(asked, "10.98.0.1", timeout=30))
        self.assertEqual([str(one) for rows in reply.answer for one in rows], ["10.98.0.77"])

    def test_without_a_reservation_some_address_of_the_network_is_given(self) -> None:
        self.serve()
        said = until(lambda: offered(self.guest, MAC), "an offer", 60)
        self.assertRegex(said[0], r"^10\.98\.0\.\d+$")
        leases.release(self.server.hosts, "TST", MAC)  # there is none, and that is no fault

    def test_where_the_network_has_no_dhcp_nobody_answers_and_at_the_end_nothing_is_left(self) -> None:
        self.serve(NetworkSetting(name="office", bridge="br0", prefixes=LIKE.prefixes))
        self.assertEqual((self.server.number(), offered(self.guest, MAC)), (0, None))
        self.serve()
        number = self.server.number()
        self.server.end()
        until(lambda: not Path(f"/proc/{number}/cmdline").exists() or not self.server.number(), "its end", 60)
        self.assertFalse(self.server.folder.exists())


class Reservations(unittest.TestCase):
    """Files that the DHCP server of a network of the host reads."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_one_file_an_adapter_in_the_form_that_is_read(self) -> None:
        leases.reserve(self.folder, "HIL", MAC.upper(), ["10.2.0.5/24", "2001:db8::5/64"])
        leases.reserve(self.folder, "HIL", MAC, ["10.2.0.6/24", "2001:db8::5/64"])
        (file,) = self.folder.iterdir()
        self.assertEqual(file.name, "maestoso-HIL-52-54-00-00-00-77")
        self.assertEqual(file.read_text(), f"{MAC},10.2.0.6,[2001:db8::5]\n")
        leases.release(self.folder, "HIL", MAC)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_folder_that_is_not_there_is_said(self) -> None:
        with self.assertRaisesRegex(NetworkFault, "dhcp-hostsdir"):
            leases.reserve(self.folder / "none", "HIL", MAC, ["10.2.0.5/24"])


if __name__ == "__main__":
    unittest.main()
