"""The address table as a file."""

from __future__ import annotations

import unittest
from ipaddress import ip_interface

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.files import BadFile
from maestoso.core.landing.table_file import read_table, write_table
from maestoso.core.model.crosswalk import NicEntry, NicSide
from tests import worlds

KNOWN = {(w.name, nic.name): nic for w in worlds.WORKLOADS.values() for nic in w.nics}
ADDRESSES = st.lists(
    st.sampled_from(("10.2.0.9/24", "2001:db8::9/64", "192.168.1.2/31")).map(ip_interface), max_size=2
).map(tuple)
TEXTS = st.none() | st.lists(st.sampled_from(("10.2.0.1", "2001:db8::1")), max_size=2).map(tuple)
SIDES = st.builds(
    NicSide, disconnected=st.booleans(), network=st.none() | st.sampled_from(("b-net", "=odd, name")),
    dhcp=st.booleans(), addresses=st.none() | ADDRESSES, gateways=TEXTS, dns=TEXTS,
)  # fmt: skip
ENTRIES = st.builds(
    NicEntry, workload=st.sampled_from(worlds.NAMES), nic=st.just("nic0"), live=SIDES,
    test=st.none() | SIDES, mac=st.none() | st.just("02:00:00:00:00:aa"),
)  # fmt: skip


def read(text: str) -> tuple[tuple[NicEntry, ...], list[tuple[int, str, str]]]:
    """Entries, and complaints as (row, column, sentence)."""
    entries, complaints = read_table(text.encode(), KNOWN)
    return entries, [(c.row, c.column, c.sentence) for c in complaints]


class TableFile(unittest.TestCase):
    """What is written reads back; what is wrong is said by row and column."""

    @given(st.lists(ENTRIES, max_size=4, unique_by=lambda entry: entry.workload))
    def test_written_and_read_it_is_the_same(self, entries: list[NicEntry]) -> None:
        self.assertEqual(read("".join(write_table(entries))), (tuple(entries), []))

    def test_good_rows_are_kept_and_bad_ones_named(self) -> None:
        entries, complaints = read(
            "workload,nic,side,addresses,gateways,dhcp,mac\n"
            "db,nic0,live,10.2.0.9/24,10.2.0.1,,\n"
            "gone,nic0,live,,,,\n"
            "db,nic7,live,,,,\n"
            "app,nic0,up,,,,\n"
            "app,nic0,live,10.2.0.300/24,,,\n"
            "app,nic0,live,,north,,\n"
            "app,nic0,live,,,perhaps,\n"
            "app,nic0,live,,,,zz\n"
            "db,nic0,live,,,,\n"
            "queue,nic0,both,,,yes,\n"
        )
        self.assertEqual([(e.workload, bool(e.test)) for e in entries], [("db", False), ("queue", True)])
        self.assertEqual(
            [(row, column) for row, column, _ in complaints],
            [(3, "workload"), (4, "nic"), (5, "side"), (6, "addresses"), (7, "gateways"), (8, "dhcp"),
             (9, "mac"), (10, "side")],
        )  # fmt: skip
        self.assertIn("It has nic0", complaints[1][2])

    def test_a_file_that_is_no_table_is_refused_whole(self) -> None:
        for text in ("workload,nic\n", "workload,nic,side,side\n", "workload,nic,side,planet\n", '"'):
            with self.subTest(text), self.assertRaises(BadFile):
                read(text)
