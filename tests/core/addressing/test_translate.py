"""Laws of prefix translation."""

from __future__ import annotations

import unittest
from ipaddress import IPv4Network, IPv6Network, ip_interface, ip_network

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.addressing.translate import is_reserved, new_mac, translate
from maestoso.core.errors import BadValue


@st.composite
def prefixes(draw: st.DrawFn, version: int, shortest: int, longest: int) -> IPv4Network | IPv6Network:
    """Any prefix of a family between two lengths."""
    bits = 32 if version == 4 else 128
    length = draw(st.integers(shortest, longest))
    base = draw(st.integers(0, 2**length - 1)) << (bits - length)
    return IPv4Network((base, length)) if version == 4 else IPv6Network((base, length))


@st.composite
def moves(draw: st.DrawFn) -> tuple[str, IPv4Network | IPv6Network, IPv4Network | IPv6Network]:
    """An address in one prefix, and another prefix of the same length."""
    version = draw(st.sampled_from((4, 6)))
    length = draw(st.integers(8, 30))
    source = draw(prefixes(version, length, length))
    to = draw(prefixes(version, length, length))
    host = draw(st.integers(0, source.num_addresses - 1))
    return f"{source[host]}/{length}", source, to


class Translate(unittest.TestCase):
    """The host part stays."""

    @given(moves())
    def test_there_and_back_is_the_identity(self, move: tuple[str, IPv4Network, IPv4Network]) -> None:
        text, source, to = move
        address = ip_interface(text)
        there = translate(address, source, to)
        self.assertIn(there.ip, to)
        self.assertEqual(translate(there, to, source), address)

    def test_the_example_of_the_documentation(self) -> None:
        moved = translate(
            ip_interface("10.20.4.17/24"), ip_network("10.20.4.0/24"), ip_network("172.18.4.0/24")
        )
        self.assertEqual(str(moved), "172.18.4.17/24")

    def test_into_a_longer_prefix_when_the_host_part_fits(self) -> None:
        source, to = ip_network("10.0.0.0/16"), ip_network("10.9.9.0/24")
        self.assertEqual(str(translate(ip_interface("10.0.0.200/16"), source, to)), "10.9.9.200/24")

    def test_a_host_part_that_does_not_fit_is_refused(self) -> None:
        with self.assertRaises(BadValue) as caught:
            translate(ip_interface("10.0.3.1/16"), ip_network("10.0.0.0/16"), ip_network("10.9.9.0/24"))
        self.assertEqual(caught.exception.code, "host-part-does-not-fit")

    def test_families_do_not_mix(self) -> None:
        with self.assertRaises(BadValue) as caught:
            translate(ip_interface("10.0.0.1/24"), ip_network("10.0.0.0/24"), ip_network("2001:db8::/64"))
        self.assertEqual(caught.exception.code, "wrong-family")

    def test_an_address_outside_the_rule_is_refused(self) -> None:
        with self.assertRaises(BadValue):
            translate(ip_interface("10.0.1.1/24"), ip_network("10.0.0.0/24"), ip_network("10.9.0.0/24"))


class Reserved(unittest.TestCase):
    """Network and broadcast addresses are not for machines."""

    def test_ends_of_a_prefix_are_reserved_and_the_middle_is_not(self) -> None:
        self.assertTrue(is_reserved(ip_interface("10.0.0.0/24")))
        self.assertTrue(is_reserved(ip_interface("10.0.0.255/24")))
        self.assertFalse(is_reserved(ip_interface("10.0.0.17/24")))

    def test_a_link_of_two_has_no_reserved_address(self) -> None:
        self.assertFalse(is_reserved(ip_interface("10.0.0.0/31")))

    def test_the_last_ipv6_address_is_no_broadcast(self) -> None:
        self.assertFalse(is_reserved(ip_interface("2001:db8::ffff:ffff:ffff:ffff/64")))


class Macs(unittest.TestCase):
    """New MACs are local, unicast, stable and different."""

    @given(st.text(min_size=1), st.text(min_size=1))
    def test_local_unicast_and_stable(self, workload: str, nic: str) -> None:
        mac = new_mac(workload, nic, "test")
        first = int(mac.split(":")[0], 16)
        self.assertEqual(first & 0b11, 0b10)
        self.assertEqual(mac, new_mac(workload, nic, "test"))
        self.assertNotEqual(mac, new_mac(workload, nic, "live"))


if __name__ == "__main__":
    unittest.main()
