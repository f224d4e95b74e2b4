"""Where a workload comes down."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import ip_interface, ip_network

from maestoso.core.landing.resolve import clashes, resolve, sandbox_name
from maestoso.core.model.crosswalk import AddressRule, NetworkRow, PoolRow, Readdress, StaticEntry
from maestoso.core.model.estate import Disk, Nic, StoragePool
from tests import worlds

DB = worlds.WORKLOADS["db"]


def codes(found: tuple[object, ...]) -> list[str]:
    """Codes of findings."""
    return [finding.code for finding in found]  # type: ignore[attr-defined]


class Resolved(unittest.TestCase):
    """A complete crosswalk gives a complete landing."""

    def test_the_host_part_stays_and_the_rest_comes_from_the_crosswalk(self) -> None:
        landing, findings = resolve(DB, worlds.crosswalk(), worlds.target(), "live")
        self.assertEqual(findings, ())
        self.assertEqual(landing.host_pool, "b-hosts")
        self.assertEqual([disk.storage_pool for disk in landing.disks], ["b-disk"])
        (nic,) = landing.nics
        self.assertEqual((nic.network, nic.isolated), ("b-net", False))
        self.assertEqual([str(address) for address in nic.addresses], ["10.2.0.11/24"])
        self.assertEqual(nic.gateways, ("10.2.0.1",))
        self.assertEqual(nic.before, DB.nics[0].addresses)

    def test_a_test_without_fixed_sandbox_makes_its_own(self) -> None:
        landing, _ = resolve(DB, worlds.crosswalk(), worlds.target(), "test")
        self.assertEqual((landing.nics[0].network, landing.nics[0].isolated), (sandbox_name("b-net"), True))

    def test_a_fixed_sandbox_is_used_as_it_is(self) -> None:
        rows = (NetworkRow(source="a-net", live="b-net", sandbox="b-lab"),)
        landing, findings = resolve(DB, worlds.crosswalk(networks=rows), worlds.target(), "test")
        self.assertEqual((landing.nics[0].network, landing.nics[0].isolated), ("b-lab", False))
        self.assertEqual(findings, ())

    def test_a_gateway_moves_like_its_address_when_the_rule_names_none(self) -> None:
        rule = AddressRule(
            prefix=ip_network("10.1.0.0/24"),
            live=worlds.translate_to("10.2.0.0/24"),
            test=worlds.translate_to("10.2.0.0/24"),
        )
        landing, _ = resolve(DB, worlds.crosswalk(address_rules=(rule,)), worlds.target(), "live")
        self.assertEqual(landing.nics[0].gateways, ("10.2.0.1",))

    def test_dhcp_by_rule_leaves_no_static_address(self) -> None:
        dhcp = Readdress(action="dhcp")
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=dhcp, test=dhcp)
        landing, findings = resolve(DB, worlds.crosswalk(address_rules=(rule,)), worlds.target(), "live")
        self.assertTrue(landing.nics[0].dhcp)
        self.assertEqual(landing.nics[0].addresses, ())
        self.assertEqual(findings, ())

    def test_a_table_entry_beats_every_rule_on_its_side_only(self) -> None:
        entry = StaticEntry(
            workload="db", nic="nic0", live=(ip_interface("10.2.0.99/24"),), live_gateway="10.2.0.254"
        )
        walk = worlds.crosswalk(static=(entry,))
        live, _ = resolve(DB, walk, worlds.target(), "live")
        test, _ = resolve(DB, walk, worlds.target(), "test")
        self.assertEqual(str(live.nics[0].addresses[0]), "10.2.0.99/24")
        self.assertEqual(live.nics[0].gateways, ("10.2.0.254",))
        self.assertEqual(str(test.nics[0].addresses[0]), "10.2.0.11/24")

    def test_several_addresses_of_both_families_on_one_nic(self) -> None:
        nic = replace(DB.nics[0], addresses=(*DB.nics[0].addresses, ip_interface("2001:db8:1::11/64")))
        v6 = AddressRule(
            prefix=ip_network("2001:db8:1::/64"),
            live=worlds.translate_to("2001:db8:2::/64"),
            test=worlds.translate_to("2001:db8:2::/64"),
        )
        walk = worlds.crosswalk(address_rules=(*worlds.crosswalk().address_rules, v6))
        landing, findings = resolve(replace(DB, nics=(nic,)), walk, worlds.target(), "live")
        self.assertEqual([str(a) for a in landing.nics[0].addresses], ["10.2.0.11/24", "2001:db8:2::11/64"])
        self.assertEqual(codes(findings), ["address-outside-prefix"])  # b-net carries no IPv6

    def test_macs_are_new_or_kept_as_the_crosswalk_says(self) -> None:
        kept, _ = resolve(DB, worlds.crosswalk(new_macs=False), worlds.target(), "live")
        new, _ = resolve(DB, worlds.crosswalk(), worlds.target(), "live")
        self.assertEqual(kept.nics[0].mac, DB.nics[0].mac)
        self.assertNotEqual(new.nics[0].mac, DB.nics[0].mac)

    def test_a_disk_that_is_left_out_has_no_place(self) -> None:
        disks = (*DB.disks, Disk(name="scratch", size_gib=9, storage_pool="z", left_out_because="scratch"))
        landing, findings = resolve(replace(DB, disks=disks), worlds.crosswalk(), worlds.target(), "live")
        self.assertEqual([disk.disk for disk in landing.disks], ["disk0"])
        self.assertEqual(findings, ())


class Findings(unittest.TestCase):
    """What is wrong with a landing is said with its code."""

    def found(self, workload=DB, walk=None, place=None, side="live") -> list[str]:  # type: ignore[no-untyped-def]
        return codes(resolve(workload, walk or worlds.crosswalk(), place or worlds.target(), side)[1])

    def test_rows_that_are_missing(self) -> None:
        self.assertEqual(self.found(walk=worlds.crosswalk(networks=())), ["no-network-row"])
        self.assertEqual(self.found(walk=worlds.crosswalk(host_pools=())), ["no-host-pool-row"])
        self.assertEqual(self.found(walk=worlds.crosswalk(storage_pools=())), ["no-storage-row"])
        self.assertEqual(self.found(walk=worlds.crosswalk(address_rules=())), ["no-address-rule"])

    def test_a_replicated_pool_cannot_be_landed_on(self) -> None:
        pools = (StoragePool(name="b-disk", capacity_gib=10, replicated=True),)
        self.assertEqual(self.found(place=worlds.target(storage_pools=pools)), ["landing-pool-replicated"])

    def test_a_network_that_the_target_does_not_have(self) -> None:
        rows = (NetworkRow(source="a-net", live="b-gone"),)
        self.assertEqual(self.found(walk=worlds.crosswalk(networks=rows)), ["network-unknown"])

    def test_a_production_network_is_no_sandbox(self) -> None:
        rows = (NetworkRow(source="a-net", live="b-net", sandbox="b-net"),)
        self.assertEqual(
            self.found(walk=worlds.crosswalk(networks=rows), side="test"), ["sandbox-not-isolated"]
        )

    def test_addresses_that_do_not_work(self) -> None:
        entry = StaticEntry(workload="db", nic="nic0", live=(ip_interface("10.2.0.255/24"),))
        self.assertIn("reserved-address", self.found(walk=worlds.crosswalk(static=(entry,))))
        entry = replace(entry, live=(ip_interface("10.7.0.9/24"),), live_gateway="10.2.0.1")
        self.assertEqual(
            self.found(walk=worlds.crosswalk(static=(entry,))),
            ["address-outside-prefix", "gateway-outside-prefix"],
        )

    def test_a_translation_without_prefix_and_one_that_does_not_fit(self) -> None:
        bare = Readdress(action="translate")
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=bare, test=bare)
        self.assertEqual(self.found(walk=worlds.crosswalk(address_rules=(rule,))), ["rule-incomplete"])
        tight = worlds.translate_to("10.2.0.0/29", "10.2.0.1")
        rule = replace(rule, live=tight, test=tight)
        self.assertEqual(self.found(walk=worlds.crosswalk(address_rules=(rule,))), ["host-part-does-not-fit"])

    def test_two_workloads_on_one_address_are_named_both(self) -> None:
        twin = replace(
            worlds.WORKLOADS["app"], nics=(Nic(**{**_fields(DB.nics[0]), "mac": "02:00:00:00:00:99"}),)
        )
        landings = tuple(resolve(w, worlds.crosswalk(), worlds.target(), "live")[0] for w in (DB, twin))
        (finding,) = clashes(landings)
        self.assertEqual(finding.code, "address-clash")
        self.assertIn("app", finding.sentence)
        self.assertIn("db", finding.sentence)

    def test_pools_are_matched_by_the_name_of_the_source_pool(self) -> None:
        rows = (PoolRow(source="other", target="b-disk"),)
        self.assertEqual(self.found(walk=worlds.crosswalk(storage_pools=rows)), ["no-storage-row"])


def _fields(nic: Nic) -> dict[str, object]:
    return {name: getattr(nic, name) for name in Nic.__slots__}


if __name__ == "__main__":
    unittest.main()
