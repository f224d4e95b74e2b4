"""Laws of the rule table: the same as ``ipaddress`` does one by one, for any rules and addresses."""

from __future__ import annotations

import unittest
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.addressing import block
from maestoso.core.addressing.rule_table import RuleTable
from maestoso.core.errors import BadValue
from maestoso.core.model.crosswalk import AddressRule, Readdress
from tests.core.addressing.test_translate import prefixes

KEEP = Readdress(action="keep")
Address = IPv4Address | IPv6Address


def one_by_one(address: Address, rules: list[AddressRule]) -> tuple[int, str, bool]:
    """Which rule (-1: none), the address it makes, and whether the host part fits; with ``ipaddress`` only."""
    best, at = -1, -1
    for index, rule in enumerate(rules):
        if rule.prefix.version == address.version and address in rule.prefix and rule.prefix.prefixlen > best:
            best, at = rule.prefix.prefixlen, index
    to = rules[at].live.to if at >= 0 else None
    if to is None or to.version != address.version:
        return at, str(address), True
    host = int(address) - int(rules[at].prefix.network_address)
    if host >= to.num_addresses:
        return at, "", False
    return at, str(to.network_address + host), True


@st.composite
def cases(draw: st.DrawFn) -> tuple[int, list[AddressRule], list[Address]]:
    """Rules of both families that nest often, and addresses at and around their edges."""
    family = draw(st.sampled_from((4, 6)))
    bits = 32 if family == 4 else 128
    rules = []
    for _ in range(draw(st.integers(0, 12))):
        version = draw(st.sampled_from((family, family, family, 10 - family)))
        prefix = draw(prefixes(version, 0, 32 if version == 4 else 64))
        if rules and draw(st.booleans()) and rules[0].prefix.version == version:
            length = draw(st.integers(rules[0].prefix.prefixlen, 32 if version == 4 else 128))
            made = IPv4Network if version == 4 else IPv6Network
            prefix = made((int(rules[0].prefix.network_address), length))
        to = draw(st.none() | prefixes(version, 0, 32 if version == 4 else 128))
        says = Readdress(action="translate", to=to)
        rules.append(AddressRule(prefix=prefix, live=says, test=KEEP))
    edges = [
        int(r.prefix.network_address) + d for r in rules if r.prefix.version == family for d in (-1, 0, 1)
    ]
    edges += [
        int(r.prefix.broadcast_address) + d for r in rules if r.prefix.version == family for d in (0, 1)
    ]
    anywhere = st.integers(0, 2**bits - 1)
    numbers = draw(st.lists(st.sampled_from(edges) | anywhere if edges else anywhere, max_size=20))
    make = IPv4Address if family == 4 else IPv6Address
    return family, rules, [make(n) for n in numbers if 0 <= n < 2**bits]


class AsOneByOne(unittest.TestCase):
    """The vectorised path equals ``ipaddress``."""

    @given(cases())
    def test_every_address_is_found_and_moved_as_one_by_one(self, case) -> None:  # type: ignore[no-untyped-def]
        family, rules, addresses = case
        table = RuleTable(rules, "live")
        words = block.parse([str(a) for a in addresses], family)
        moved = table.move(words, family)
        texts = block.format_block(moved.words)
        for index, address in enumerate(addresses):
            at, text, fits = one_by_one(address, rules)
            self.assertEqual(int(moved.rule[index]), at)
            self.assertEqual(bool(moved.fits[index]), fits)
            if fits:
                self.assertEqual(texts[index], text)

    def test_the_longest_prefix_wins(self) -> None:
        wide = AddressRule(prefix=ip_network("10.0.0.0/8"), live=KEEP, test=KEEP)
        narrow = AddressRule(prefix=ip_network("10.1.0.0/16"), live=KEEP, test=KEEP)
        table = RuleTable((wide, narrow), "live")
        self.assertIs(table.rule_of(ip_address("10.1.2.3")), narrow)
        self.assertIs(table.rule_of(ip_address("10.2.2.3")), wide)
        self.assertIsNone(table.rule_of(ip_address("192.168.1.1")))
        self.assertIsNone(table.rule_of(ip_address("2001:db8::1")))

    def test_the_two_sides_have_rules_of_their_own(self) -> None:
        moves = Readdress(action="translate", to=ip_network("172.18.0.0/24"))
        rule = AddressRule(prefix=ip_network("10.0.0.0/24"), live=moves, test=KEEP)
        for side, expected in (("live", "172.18.0.7"), ("test", "10.0.0.7")):
            moved = RuleTable((rule,), side).move(block.parse(["10.0.0.7"], 4), 4)  # type: ignore[arg-type]
            self.assertEqual(block.format_block(moved.words), [expected])


class Texts(unittest.TestCase):
    """Addresses in and out."""

    @given(st.lists(st.integers(0, 2**128 - 1) | st.integers(0, 2**48) | st.just(0xFFFF01020304)))
    def test_ipv6_is_written_as_ipaddress_writes_it(self, numbers: list[int]) -> None:
        texts = [str(IPv6Address(number)) for number in numbers]
        self.assertEqual(block.format_block(block.parse(texts, 6)), texts)
        self.assertEqual(block.numbers(block.words(numbers, 6)), numbers)

    @given(st.lists(st.integers(0, 2**32 - 1)))
    def test_ipv4_is_written_as_ipaddress_writes_it(self, numbers: list[int]) -> None:
        texts = [str(IPv4Address(number)) for number in numbers]
        self.assertEqual(block.format_block(block.parse(texts, 4)), texts)

    def test_what_is_no_address_is_named(self) -> None:
        for wrong in ("10.1", "10.0.0.256", "010.0.0.1", "", "2001:db8::1", "a\0b"):
            with self.subTest(wrong), self.assertRaises(BadValue) as caught:
                block.parse(["10.0.0.1", wrong], 4)
            self.assertIn(repr(wrong), caught.exception.sentence)
