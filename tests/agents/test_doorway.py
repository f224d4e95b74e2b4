"""How clients come to a machine: what the host is told, and what is passed on to copies of tests."""

from __future__ import annotations

import socket
import threading
import unittest

from maestoso.agent_kit.front_doors import lets_in
from maestoso.agents.libvirt.doorway import Relay, Translation, Way
from tests.ports import free_port

WEB = Way("203.0.113.10", "tcp", 443, "10.0.0.5")


class Rules(unittest.TestCase):
    def test_a_port_leads_to_the_same_port_of_the_machine_and_the_table_is_replaced_as_a_whole(self) -> None:
        text = Translation("QUA").rules((WEB,))
        self.assertEqual(text.count("    ip daddr 203.0.113.10 tcp dport 443 dnat ip to 10.0.0.5\n"), 2)
        self.assertIn("delete table inet maestoso_qua\n", text)
        self.assertNotIn("dnat", Translation("QUA").rules(()))

    def test_only_sources_that_are_named_come_in_and_none_of_the_other_family(self) -> None:
        near = Way("203.0.113.10", "udp", 53, "10.0.0.5", ("192.0.2.0/24", "2001:db8::/32"))
        rules = Translation("QUA").rules((near,))
        self.assertIn(
            "ip daddr 203.0.113.10 ip saddr { 192.0.2.0/24 } udp dport 53 dnat ip to 10.0.0.5", rules
        )
        six = Way("203.0.113.10", "tcp", 53, "10.0.0.5", ("2001:db8::/32",))
        self.assertIn("ip daddr 203.0.113.10 tcp dport 53 drop", Translation("QUA").rules((six,)))
        other = Translation("QUA").rules((Way("2001:db8::1", "tcp", 80, "fd00::5"),))
        self.assertIn("ip6 daddr 2001:db8::1 tcp dport 80 dnat ip6 to fd00::5", other)

    def test_who_may_come_to_a_door_of_a_test(self) -> None:
        self.assertTrue(lets_in((), "192.0.2.1"))
        self.assertTrue(lets_in(("192.0.2.0/24",), "192.0.2.1"))
        self.assertFalse(lets_in(("192.0.2.0/24",), "198.51.100.1"))
        self.assertFalse(lets_in(("192.0.2.0/24",), "2001:db8::1"))


class PassedOn(unittest.TestCase):
    """A copy that repeats in capital letters, and says when its client has ended."""

    def setUp(self) -> None:
        self.copy = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(self.copy.close)
        threading.Thread(target=self.serve, daemon=True).start()
        self.port = free_port()

    def serve(self) -> None:
        while True:
            try:
                client, _ = self.copy.accept()
            except OSError:
                return
            with client:
                while said := client.recv(65536):
                    client.sendall(said.upper())
                client.sendall(b"end")

    def relay(self, *sources: str, fails: bool = False) -> Relay:
        """The door, open."""

        def connect() -> socket.socket:
            if fails:
                raise ConnectionRefusedError
            return socket.create_connection(self.copy.getsockname())

        made = Relay(Way("127.0.0.1", "tcp", self.port, "10.0.0.5", sources), connect)
        self.addCleanup(made.close)
        return made

    def said(self, text: bytes) -> bytes:
        """What a client hears that says something and then nothing more."""
        with socket.create_connection(("127.0.0.1", self.port), timeout=20) as client:
            client.sendall(text)
            client.shutdown(socket.SHUT_WR)
            heard = b""
            while more := client.recv(65536):
                heard += more
            return heard

    def test_both_ways_until_both_have_ended(self) -> None:
        self.relay()
        long = b"quay " * 100_000
        self.assertEqual(self.said(b"harbour"), b"HARBOURend")
        self.assertEqual(self.said(long), long.upper() + b"end")

    def test_a_copy_that_does_not_answer_ends_its_client_and_not_the_door(self) -> None:
        self.relay(fails=True)
        for _ in range(2):
            self.assertEqual(self.said(b""), b"")

    def test_who_comes_from_elsewhere_hears_nothing(self) -> None:
        self.relay("192.0.2.0/24")
        self.assertEqual(self.said(b""), b"")

    def test_closed_nobody_comes_in(self) -> None:
        self.relay().close()
        with self.assertRaises(OSError):
            self.said(b"harbour")


if __name__ == "__main__":
    unittest.main()
