"""Where a workload comes down."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import ip_interface, ip_network

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.landing import resolve as landing_resolve
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.resolve import sandbox_name
from maestoso.core.model.crosswalk import (
    AddressRule,
    Crosswalk,
    NetworkRow,
    NicEntry,
    NicSide,
    PoolRow,
    Readdress,
    Side,
    WorkloadEntry,
)
from maestoso.core.model.estate import Disk, HostPool, Inventory, StoragePool, Workload
from tests import worlds

DB = worlds.WORKLOADS["db"]


def resolve(  # type: ignore[no-untyped-def]
    workload: Workload, walk: Crosswalk, place: Inventory, side: Side
):
    """The landing of one workload, and the findings about it."""
    ground = Ground({"A": worlds.source(workloads=(workload,)), "B": place})
    (one,) = landing_resolve.resolve((workload,), walk, ground, side)
    return one.landing, one.findings


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
        entry = NicEntry(
            workload="db",
            nic="nic0",
            live=NicSide(addresses=(ip_interface("10.2.0.99/24"),), gateways=("10.2.0.254",)),
        )
        walk = worlds.crosswalk(table=(entry,))
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
        entry = NicEntry(workload="db", nic="nic0", live=NicSide(addresses=(ip_interface("10.2.0.255/24"),)))
        self.assertIn("reserved-address", self.found(walk=worlds.crosswalk(table=(entry,))))
        entry = replace(entry, live=NicSide(addresses=(ip_interface("10.7.0.9/24"),), gateways=("10.2.0.1",)))
        self.assertEqual(
            self.found(walk=worlds.crosswalk(table=(entry,))),
            ["address-outside-prefix", "gateway-outside-prefix"],
        )

    def test_a_translation_without_prefix_and_one_that_does_not_fit(self) -> None:
        bare = Readdress(action="translate")
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=bare, test=bare)
        self.assertEqual(self.found(walk=worlds.crosswalk(address_rules=(rule,))), ["rule-incomplete"])
        tight = worlds.translate_to("10.2.0.0/29", "10.2.0.1")
        rule = replace(rule, live=tight, test=tight)
        self.assertEqual(self.found(walk=worlds.crosswalk(address_rules=(rule,))), ["host-part-does-not-fit"])

    def test_a_rule_that_crosses_families(self) -> None:
        wrong = worlds.translate_to("2001:db8::/64")
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=wrong, test=wrong)
        self.assertEqual(self.found(walk=worlds.crosswalk(address_rules=(rule,))), ["wrong-family"])

    def test_pools_are_matched_by_the_name_of_the_source_pool(self) -> None:
        rows = (PoolRow(source="other", target="b-disk"),)
        self.assertEqual(self.found(walk=worlds.crosswalk(storage_pools=rows)), ["no-storage-row"])


class Exceptions(unittest.TestCase):
    """What is said of one workload or adapter beats every rule."""

    @given(
        st.lists(st.sampled_from(("10.1.0.0/24", "10.1.0.0/28", "10.0.0.0/8", "0.0.0.0/0")), max_size=4),
        st.sampled_from(("keep", "dhcp", "table", "translate")),
        st.integers(2, 254),
    )
    def test_an_entry_beats_any_set_of_rules(self, prefixes: list[str], action: str, host: int) -> None:
        says = Readdress(action=action, to=ip_network("10.7.0.0/24"))  # type: ignore[arg-type]
        rules = tuple(AddressRule(prefix=ip_network(text), live=says, test=says) for text in prefixes)
        wanted = ip_interface(f"10.2.0.{host}/24")
        entry = NicEntry(workload="db", nic="nic0", live=NicSide(addresses=(wanted,)))
        walk = worlds.crosswalk(address_rules=rules, table=(entry,))
        landing, findings = resolve(DB, walk, worlds.target(), "live")
        self.assertEqual((landing.nics[0].addresses, landing.nics[0].dhcp), ((wanted,), False))
        self.assertEqual(findings, ())

    def test_a_workload_of_another_size_name_and_place(self) -> None:
        entry = WorkloadEntry(
            workload="db", name="db-dr", host_pool="b-hosts", folder="apart", cores=1, memory_mib=1024,
            storage_pools={"disk0": "b-disk"},
        )  # fmt: skip
        walk = worlds.crosswalk(exceptions=(entry,), host_pools=(), storage_pools=())
        landing, findings = resolve(DB, walk, worlds.target(), "live")
        self.assertEqual(findings, ())
        self.assertEqual((landing.name, landing.folder, landing.host_pool), ("db-dr", "apart", "b-hosts"))
        self.assertEqual((landing.cores, landing.memory_mib), (1, 1024))
        self.assertEqual(landing.disks[0].storage_pool, "b-disk")

    def test_an_adapter_that_is_left_disconnected_has_nothing(self) -> None:
        entry = NicEntry(workload="db", nic="nic0", live=NicSide(disconnected=True))
        live, findings = resolve(DB, worlds.crosswalk(table=(entry,), networks=()), worlds.target(), "live")
        self.assertEqual(findings, ())
        self.assertEqual((live.nics[0].connected, live.nics[0].addresses), (False, ()))
        test, _ = resolve(DB, worlds.crosswalk(table=(entry,)), worlds.target(), "test")
        self.assertTrue(test.nics[0].connected)

    def test_another_network_for_one_adapter_keeps_the_rule_for_its_address(self) -> None:
        entry = NicEntry(workload="db", nic="nic0", test=NicSide(network="b-lab"), mac="02:00:00:00:0a:0a")
        test, findings = resolve(DB, worlds.crosswalk(table=(entry,)), worlds.target(), "test")
        self.assertEqual(findings, ())
        nic = test.nics[0]
        self.assertEqual((nic.network, nic.isolated, nic.mac), ("b-lab", False, "02:00:00:00:0a:0a"))
        self.assertEqual(str(nic.addresses[0]), "10.2.0.11/24")

    def test_an_entry_without_gateway_has_that_of_its_network_and_the_names_of_the_rule(self) -> None:
        rule = replace(
            worlds.crosswalk().address_rules[0],
            live=Readdress(
                action="translate", to=ip_network("10.2.0.0/24"), dns=("10.2.0.5",), suffix="shop.example"
            ),
        )
        entry = NicEntry(workload="db", nic="nic0", live=NicSide(addresses=(ip_interface("10.2.0.99/24"),)))
        walk = worlds.crosswalk(table=(entry,), address_rules=(rule,))
        landing, _ = resolve(DB, walk, worlds.target(), "live")
        nic = landing.nics[0]
        self.assertEqual((nic.gateways, nic.dns, nic.suffix), (("10.2.0.1",), ("10.2.0.5",), "shop.example"))

    def test_a_rule_that_says_table_wants_an_entry(self) -> None:
        bare = Readdress(action="table")
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=bare, test=bare)
        _, findings = resolve(DB, worlds.crosswalk(address_rules=(rule,)), worlds.target(), "live")
        self.assertEqual(codes(findings), ["no-table-entry"])
        entry = NicEntry(workload="db", nic="nic0", live=NicSide(addresses=(ip_interface("10.2.0.99/24"),)))
        walk = worlds.crosswalk(address_rules=(rule,), table=(entry,))
        self.assertEqual(resolve(DB, walk, worlds.target(), "live")[1], ())


class Dhcp(unittest.TestCase):
    """A lease is not an address, unless it is reserved."""

    NIC = replace(DB.nics[0], dhcp=True)

    def landed(self, reserved: bool, **changes: object):  # type: ignore[no-untyped-def]
        net = replace(
            worlds.source().networks[0], dhcp=True,
            reservations={self.NIC.mac: "10.1.0.11"} if reserved else {},
        )  # fmt: skip
        workload = replace(DB, nics=(self.NIC,))
        ground = Ground({"A": worlds.source(networks=(net,), workloads=(workload,)), "B": worlds.target()})
        (one,) = landing_resolve.resolve((workload,), worlds.crosswalk(**changes), ground, "live")
        return one.landing.nics[0], codes(one.findings)

    def test_a_lease_is_up_to_the_server_at_the_target(self) -> None:
        nic, findings = self.landed(reserved=False)
        self.assertEqual((nic.dhcp, nic.addresses, findings), (True, (), []))
        nic, findings = self.landed(reserved=False, address_rules=())
        self.assertEqual((nic.dhcp, nic.addresses, findings), (True, (), []))

    def test_a_reserved_lease_is_reserved_at_its_moved_address(self) -> None:
        nic, findings = self.landed(reserved=True)
        self.assertEqual((nic.dhcp, [str(a) for a in nic.addresses], findings), (True, ["10.2.0.11/24"], []))
        self.assertEqual(nic.gateways, ())

    def test_a_rule_can_make_a_static_address_a_reservation(self) -> None:
        says = Readdress(action="dhcp", to=ip_network("10.2.0.0/24"))
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=says, test=Readdress(action="dhcp"))
        walk = worlds.crosswalk(address_rules=(rule,))
        live, _ = resolve(DB, walk, worlds.target(), "live")
        self.assertEqual((live.nics[0].dhcp, str(live.nics[0].addresses[0])), (True, "10.2.0.11/24"))
        test, _ = resolve(DB, walk, worlds.target(), "test")
        self.assertEqual((test.nics[0].dhcp, test.nics[0].addresses), (True, ()))


class Places(unittest.TestCase):
    """Host pools and folders go by where the workload is."""

    def test_the_row_of_the_own_host_pool_is_taken(self) -> None:
        rows = (PoolRow(source="a-fast", target="b-fast"), PoolRow(source="a-hosts", target="b-hosts"))
        pools = (*worlds.target().host_pools, HostPool(name="b-fast", hosts=1, cores=8, memory_mib=8192))
        walk, place = worlds.crosswalk(host_pools=rows), worlds.target(host_pools=pools)
        self.assertEqual(resolve(replace(DB, host_pool="a-fast"), walk, place, "live")[0].host_pool, "b-fast")
        _, findings = resolve(DB, walk, place, "live")
        self.assertEqual(codes(findings), ["no-host-pool-row"])  # nobody said where it runs
        _, findings = resolve(replace(DB, host_pool="a-old"), walk, place, "live")
        self.assertIn("for a-old", findings[0].mend)

    def test_a_pool_that_the_target_does_not_have(self) -> None:
        walk = worlds.crosswalk(host_pools=(PoolRow(source="a-hosts", target="b-gone"),))
        self.assertEqual(codes(resolve(DB, walk, worlds.target(), "live")[1]), ["host-pool-unknown"])
        walk = worlds.crosswalk(storage_pools=(PoolRow(source="a-disk", target="b-gone"),))
        self.assertEqual(codes(resolve(DB, walk, worlds.target(), "live")[1]), ["storage-pool-unknown"])

    def test_a_folder_without_a_row_is_noted(self) -> None:
        landing, findings = resolve(replace(DB, folder="shop"), worlds.crosswalk(), worlds.target(), "live")
        self.assertEqual(
            (landing.folder, codes(findings), findings[0].severity), ("", ["no-folder-row"], "note")
        )
        walk = worlds.crosswalk(folders=(PoolRow(source="shop", target="recovered/shop"),))
        landing, findings = resolve(replace(DB, folder="shop"), walk, worlds.target(), "live")
        self.assertEqual((landing.folder, findings), ("recovered/shop", ()))
