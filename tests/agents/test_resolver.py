"""The name server of an isolated network: what it knows, what it does not, and what is no question."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import dns.exception
import dns.message
import dns.query
import dns.rcode
import dns.rdatatype
from hypothesis import given
from hypothesis import strategies as st

from maestoso.agents.libvirt import resolver
from maestoso.agents.libvirt.resolver import Resolver, answered
from tests.ports import free_port

NAMES = {
    ("shop.tidewell.example", "A"): ("10.1.0.14", "10.1.0.15"),
    ("shop.tidewell.example", "AAAA"): ("2001:db8::14",),
    ("tickets.tidewell.example", "CNAME"): ("shop.tidewell.example",),
    ("away.tidewell.example", "CNAME"): ("elsewhere.example",),
    ("round.tidewell.example", "CNAME"): ("round.tidewell.example",),
    ("_book._tcp.tidewell.example", "SRV"): ("10 5 443 shop.tidewell.example",),
    ("14.0.1.10.in-addr.arpa", "PTR"): ("shop.tidewell.example",),
}


def ask(name: str, kind: str) -> tuple[str, list[str]]:
    """What is answered: the code, and all records as texts without their TTL; their order is by chance."""
    reply = dns.message.from_wire(answered(dns.message.make_query(name, kind).to_wire(), NAMES))
    rows = [
        f"{rows.name} {dns.rdatatype.to_text(rows.rdtype)} {one}" for rows in reply.answer for one in rows
    ]
    return dns.rcode.to_text(reply.rcode()), sorted(
        row.replace("Shop.Tidewell", "shop.tidewell") for row in rows
    )


class Answers(unittest.TestCase):
    def test_every_type_of_a_name_cue(self) -> None:
        self.assertEqual(ask("Shop.Tidewell.example", "A"), ("NOERROR", [
            "shop.tidewell.example. A 10.1.0.14", "shop.tidewell.example. A 10.1.0.15",
        ]))  # fmt: skip
        self.assertEqual(
            ask("shop.tidewell.example", "AAAA")[1], ["shop.tidewell.example. AAAA 2001:db8::14"]
        )
        self.assertEqual(ask("_book._tcp.tidewell.example", "SRV")[1],
                         ["_book._tcp.tidewell.example. SRV 10 5 443 shop.tidewell.example."])  # fmt: skip
        self.assertEqual(
            ask("14.0.1.10.in-addr.arpa", "PTR")[1], ["14.0.1.10.in-addr.arpa. PTR shop.tidewell.example."]
        )

    def test_another_name_is_followed_as_far_as_it_is_known(self) -> None:
        self.assertEqual(len(ask("tickets.tidewell.example", "A")[1]), 3)
        self.assertEqual(
            ask("tickets.tidewell.example", "CNAME")[1],
            ["tickets.tidewell.example. CNAME shop.tidewell.example."],
        )
        self.assertEqual(
            ask("away.tidewell.example", "A"),
            ("NOERROR", ["away.tidewell.example. CNAME elsewhere.example."]),
        )
        self.assertEqual(ask("round.tidewell.example", "A")[0], "NOERROR")

    def test_what_it_does_not_know(self) -> None:
        self.assertEqual(ask("shop.tidewell.example", "SRV"), ("NOERROR", []))
        self.assertEqual(ask("other.tidewell.example", "A"), ("NXDOMAIN", []))

    @given(st.binary(max_size=80))
    def test_what_is_no_question_is_no_trouble(self, said: bytes) -> None:
        with suppress(dns.exception.DNSException):
            dns.message.from_wire(answered(said, NAMES))


class Listening(unittest.TestCase):
    """On loopback, at another port than the usual one."""

    def test_by_datagrams_and_by_streams_until_it_is_closed(self) -> None:
        port = free_port()

        def here(work: Callable[[], Any]) -> Any:
            return work()

        self.addCleanup(setattr, resolver, "PORT", resolver.PORT)
        resolver.PORT = port
        made = Resolver(("127.0.0.1",), NAMES, here)
        question = dns.message.make_query("shop.tidewell.example", "A")
        for by in (dns.query.udp, dns.query.tcp):
            reply = by(question, "127.0.0.1", port=port, timeout=20)
            self.assertEqual(len(reply.answer[0]), 2)
        made.names = {}
        self.assertEqual(
            dns.query.udp(question, "127.0.0.1", port=port, timeout=20).rcode(), dns.rcode.NXDOMAIN
        )
        made.close()
        with self.assertRaises(OSError):
            dns.query.tcp(question, "127.0.0.1", port=port, timeout=20)


if __name__ == "__main__":
    unittest.main()
