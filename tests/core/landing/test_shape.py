"""What a crosswalk could never be is refused at its field."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from maestoso.core.landing.shape import complaints
from maestoso.core.model.crosswalk import NetworkRow, NicEntry, NicSide, WorkloadEntry
from tests import worlds


class Refused(unittest.TestCase):
    """Each complaint names the field and says what would be right."""

    def only(self, **changes: Any) -> tuple[str, str, str]:
        """The one complaint about a crosswalk with changes."""
        (found,) = complaints(worlds.crosswalk(**changes))
        self.assertTrue(found[2])
        return found

    def rule(self, **changes: Any) -> Any:
        """The rule of the little crosswalk, changed on its live side."""
        rule = worlds.crosswalk().address_rules[0]
        return (replace(rule, live=replace(rule.live, **changes)),)

    def test_a_sound_one_has_none(self) -> None:
        self.assertEqual(list(complaints(worlds.crosswalk())), [])

    def test_it_goes_somewhere_else(self) -> None:
        self.assertEqual(self.only(target="A")[0], "target")

    def test_addresses_are_addresses(self) -> None:
        for part, value in (("gateway", "10.2.0"), ("dns", ("10.2.0.5", "ten")), ("suffix", "not a name")):
            field, sentence, _ = self.only(address_rules=self.rule(**{part: value}))
            self.assertEqual(field, f"address_rules[0].live.{part}")
            self.assertIn(repr(value[1] if isinstance(value, tuple) else value), sentence)

    def test_domains_and_gateways_that_are_well_written_pass(self) -> None:
        sound = self.rule(gateway="2001:db8::1", dns=("10.2.0.5",), suffix="harbour.example")
        self.assertEqual(list(complaints(worlds.crosswalk(address_rules=sound))), [])

    def test_entries_of_the_table(self) -> None:
        entry = NicEntry(workload="db", nic="nic0")
        self.assertEqual(self.only(table=(replace(entry, mac="02:00"),))[0], "table[0].mac")
        wrong = replace(entry, test=NicSide(dns=("nowhere",)))
        self.assertEqual(self.only(table=(wrong,))[0], "table[0].test.dns")
        self.assertEqual(self.only(table=(entry, entry))[:2], ("table", "nic0 of db has 2 entries."))

    def test_exceptions(self) -> None:
        for field, value in (("name", "no name"), ("cores", 0), ("memory_mib", 10**9)):
            exception = WorkloadEntry(workload="db", **{field: value})  # type: ignore[arg-type]
            self.assertEqual(self.only(exceptions=(exception,))[0], f"exceptions[0].{field}")
        twice = (WorkloadEntry(workload="db"), WorkloadEntry(workload="db", cores=2))
        self.assertEqual(self.only(exceptions=twice)[1], "db has 2 exceptions.")

    def test_names_and_numbers_have_an_end(self) -> None:
        self.assertEqual(self.only(networks=(NetworkRow(source="n" * 1000, live="b-net"),))[0], "networks[0]")
        rows = tuple(NetworkRow(source=f"n{n}", live="b-net") for n in range(10_001))
        self.assertEqual(
            self.only(networks=rows), ("networks", "There are 10001 of them.", "Give at most 10000.")
        )


if __name__ == "__main__":
    unittest.main()
