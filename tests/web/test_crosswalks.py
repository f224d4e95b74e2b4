"""Crosswalks as they are edited: threads, rules, exceptions."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.web.typescript import TypeScript

KINDS = ("network", "host pool", "storage pool", "folder")
NAMES = st.lists(st.sampled_from("abcd"), unique=True)


def crosswalk(**changes: Any) -> dict[str, Any]:
    """One that says nothing."""
    lists = (
        "networks",
        "host_pools",
        "storage_pools",
        "folders",
        "address_rules",
        "table",
        "exceptions",
        "front_doors",
    )
    return {**{name: [] for name in lists}, **changes}


class Editing(TypeScript):
    """features/crosswalks/edit"""

    module = "features/crosswalks/edit"

    def test_a_live_network_before_its_test(self) -> None:
        answer = self.called("join", crosswalk(), "network", ["a"], "lab", "test")
        self.assertEqual((answer["value"], answer["args"][0]), (["a"], crosswalk()))
        live = self.changed("join", crosswalk(), "network", ["a"], "b-net", "live")
        self.assertEqual(live["networks"], [{"source": "a", "live": "b-net", "sandbox": None}])
        tested = self.changed("join", live, "network", ["a"], "lab", "test")
        self.assertEqual(tested["networks"], [{"source": "a", "live": "b-net", "sandbox": "lab"}])
        own = self.changed("join", tested, "network", ["a"], "", "test")
        self.assertIsNone(own["networks"][0]["sandbox"])

    @given(st.sampled_from(KINDS), NAMES, NAMES)
    def test_joining_twice_moves_and_doubles_nothing(
        self, kind: str, first: list[str], second: list[str]
    ) -> None:
        once = self.changed("join", crosswalk(), kind, first, "x", "live")
        twice = self.changed("join", once, kind, second, "y", "live")
        threads = [one for one in self.call("threadsOf", twice, kind) if one["side"] == "live"]
        wanted = dict.fromkeys(first, "x") | dict.fromkeys(second, "y")
        self.assertEqual({one["source"]: one["target"] for one in threads}, wanted)
        self.assertEqual(len(threads), len(wanted))

    @given(st.sampled_from(KINDS), NAMES)
    def test_unjoining_takes_back_what_joining_did(self, kind: str, names: list[str]) -> None:
        joined = self.changed("join", crosswalk(), kind, names, "x", "live")
        self.assertEqual(self.changed("unjoin", joined, kind, names), crosswalk())

    @given(
        st.sampled_from("ab"), st.sampled_from(["", "198.51.100.1"]), st.sampled_from(["", "198.51.100.9"])
    )
    def test_a_front_door_has_one_row_and_taking_it_away_leaves_nothing(
        self, name: str, live: str, test: str
    ) -> None:
        one = self.changed("setDoor", crosswalk(), name, {"live": live})
        two = self.changed("setDoor", one, name, {"test": test})
        self.assertEqual(two["front_doors"], [{"source": name, "live": live, "test": test}])
        self.assertEqual(self.changed("setDoor", two, name, None), crosswalk())
        self.assertEqual(self.changed("setDoor", two, "c", None), two)

    def test_the_first_address_that_a_machine_can_have(self) -> None:
        for prefixes, first in (
            (["198.51.100.0/28"], "198.51.100.1"), (["2001:db8::/64", "192.0.2.16/28"], "192.0.2.17"), ([], ""),
            (["2001:db8::/64"], ""),
        ):  # fmt: skip
            self.assertEqual(self.call("firstHost", prefixes), first)

    def test_threads_of_networks_are_two(self) -> None:
        made = crosswalk(networks=[{"source": "a", "live": "b-net", "sandbox": None}])
        self.assertEqual(
            self.call("threadsOf", made, "network"),
            [
                {"source": "a", "target": "b-net", "side": "live"},
                {"source": "a", "target": "", "side": "test"},
            ],
        )

    def test_the_side_is_that_of_the_target(self) -> None:
        networks = [{"name": "lab", "role": "sandbox"}, {"name": "b-net", "role": "production"}]
        detail = {"targets": {"networks": networks}}
        self.assert_table(
            "sideOf",
            (detail, "network", "lab", "test"), (detail, "network", "b-net", "live"), (detail, "network", "", "test"),
            (detail, "folder", "lab", "live"), (detail, "network", "gone", "live"),
        )  # fmt: skip

    def test_proposals_of_every_kind(self) -> None:
        pool = {"source": "p", "target": "q"}
        none = {"network": None, "rule": None, "pool": None}
        for kind, key in (
            ("host pool", "host_pools"),
            ("storage pool", "storage_pools"),
            ("folder", "folders"),
        ):
            with self.subTest(kind):
                after = self.changed("accept", crosswalk(), {**none, "kind": kind, "pool": pool})
                self.assertEqual(after, crosswalk(**{key: [pool]}))
        network = {"source": "a", "live": "b", "sandbox": None}
        after = self.changed("accept", crosswalk(), {**none, "kind": "network", "network": network})
        self.assertEqual(after, crosswalk(networks=[network]))
        rule = self.call("newRule", "10.1.0.0/24")
        after = self.changed("accept", crosswalk(), {**none, "kind": "address rule", "rule": rule})
        self.assertEqual(after, crosswalk(address_rules=[rule]))

    def test_an_entry_is_made_once(self) -> None:
        made = self.changed("entryOf", crosswalk(), "w", "nic0")
        self.assertEqual(self.changed("entryOf", made, "w", "nic0"), made)
        self.assertEqual(len(self.changed("entryOf", made, "w", "nic1")["table"]), 2)
        made = self.changed("exceptionOf", crosswalk(), "w")
        self.assertEqual(self.changed("exceptionOf", made, "w"), made)

    def test_what_says_nothing_is_taken_away(self) -> None:
        empty = self.changed("exceptionOf", self.changed("entryOf", crosswalk(), "w", "nic0"), "w")
        self.assertEqual(self.changed("tidy", empty), crosswalk())
        for change in ({"name": "x"}, {"cores": 4}, {"storage_pools": {"disk0": "q"}}, {"folder": "f"}):
            with self.subTest(change):
                kept = crosswalk(exceptions=[{**empty["exceptions"][0], **change}])
                self.assertEqual(self.changed("tidy", kept), kept)
        kept = crosswalk(table=[{**empty["table"][0], "mac": "02:00:00:00:00:01"}])
        self.assertEqual(self.changed("tidy", kept), kept)

    @given(st.lists(st.text("ab.1", min_size=1)), st.sampled_from((" ", ",", ", ", "\n")))
    def test_words_by_spaces_or_commas(self, found: list[str], between: str) -> None:
        self.assertEqual(self.call("words", between.join(found)), found)


if __name__ == "__main__":
    unittest.main()
