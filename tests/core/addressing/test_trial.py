"""Trying the rules on a list of addresses."""

from __future__ import annotations

import unittest
from ipaddress import ip_network

from maestoso.core.addressing.rule_table import RuleTable
from maestoso.core.addressing.trial import readdress
from maestoso.core.errors import BadValue
from maestoso.core.model.crosswalk import AddressRule, Readdress


def rule(prefix: str, action: str, to: str | None = None) -> AddressRule:
    """The same live and in a test."""
    says = Readdress(action=action, to=ip_network(to) if to else None)  # type: ignore[arg-type]
    return AddressRule(prefix=ip_network(prefix), live=says, test=says)


TABLE = RuleTable(
    (
        rule("10.0.0.0/24", "translate", "172.16.0.0/24"),
        rule("10.0.1.0/24", "keep"),
        rule("10.0.2.0/24", "dhcp"),
        rule("10.0.3.0/24", "dhcp", "172.16.3.0/24"),
        rule("10.0.4.0/24", "table"),
        rule("10.0.5.0/24", "translate", "172.16.5.0/28"),
        rule("2001:db8::/64", "translate", "2001:db8:1::/64"),
    ),
    "live",
)


class Trials(unittest.TestCase):
    """Every action in words or as an address, in the order in which it was asked."""

    def test_both_families_in_any_order(self) -> None:
        asked = [
            "2001:db8::17",
            "10.0.0.7",
            "10.0.1.7",
            "10.0.2.7",
            "10.0.3.7",
            "10.0.4.7",
            "10.0.5.200",
            "192.0.2.1",
        ]
        after, rules = readdress(asked, TABLE)
        self.assertEqual(
            after,
            [
                "2001:db8:1::17",
                "172.16.0.7",
                "10.0.1.7",
                "DHCP",
                "172.16.3.7",
                "by the table",
                "does not fit",
                "",
            ],
        )
        self.assertEqual(rules[0], "2001:db8::/64")
        self.assertEqual(rules[-2:], ["10.0.5.0/24", ""])

    def test_one_family_alone_and_nothing_at_all(self) -> None:
        self.assertEqual(readdress(["10.0.0.7"], TABLE), (["172.16.0.7"], ["10.0.0.0/24"]))
        self.assertEqual(readdress(["2001:db8::1"], TABLE)[0], ["2001:db8:1::1"])
        self.assertEqual(readdress([], TABLE), ([], []))

    def test_what_is_no_address_is_named(self) -> None:
        for wrong in ("10.0.0.0/24", "2001:db8::zz", "host.example"):
            with self.subTest(wrong), self.assertRaises(BadValue) as caught:
                readdress(["10.0.0.1", wrong], TABLE)
            self.assertIn(wrong, caught.exception.sentence)
