"""Differences are found field by field and taken over one by one; uses make a map."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import ip_interface, ip_network

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue
from maestoso.core.estate.checks import inventory_complaints, link_check, workload_complaints
from maestoso.core.estate.difference import differences, merged
from maestoso.core.estate.row import row_of
from maestoso.core.estate.uses import gaps, uses
from maestoso.core.model.estate import Inventory, Link, Network, SiteLimits, ThrottleWindow
from tests import worlds

KNOWN = worlds.target(workloads=tuple(worlds.WORKLOADS.values()))


class Differences(unittest.TestCase):
    """New, changed, gone."""

    def test_the_same_inventory_has_none(self) -> None:
        self.assertEqual(differences(KNOWN, KNOWN), ())

    def test_a_change_says_field_before_and_after(self) -> None:
        db = worlds.WORKLOADS["db"]
        disk = replace(db.disks[0], size_gib=80)
        said = replace(KNOWN, workloads=(replace(db, cores=8, disks=(disk,)), *KNOWN.workloads[1:]))
        (one,) = differences(KNOWN, said)
        self.assertEqual((one.id, one.change), ("workload/db", "changed"))
        self.assertEqual(
            [(f.field, f.known, f.said) for f in one.fields],
            [("cores", "2", "8"), ("disks.disk0.size_gib", "40", "80")],
        )

    def test_new_and_gone_are_named(self) -> None:
        said = replace(KNOWN, workloads=(*KNOWN.workloads[1:], worlds.workload("fresh", 99)), networks=())
        found = {(one.id, one.change) for one in differences(KNOWN, said)}
        wanted = {("workload/db", "gone"), ("workload/fresh", "new")}
        self.assertEqual(found, wanted | {("network/b-net", "gone"), ("network/b-lab", "gone")})

    def test_all_accepted_is_what_was_said_and_none_is_what_was_known(self) -> None:
        said = replace(
            KNOWN,
            workloads=(worlds.workload("fresh", 99), replace(KNOWN.workloads[1], cores=7)),
            limits=SiteLimits(power=9),
        )
        ids = {one.id for one in differences(KNOWN, said)}
        self.assertEqual(differences(merged(KNOWN, said, ids), said), ())
        self.assertEqual(merged(KNOWN, said, set()), KNOWN)

    def test_part_can_be_accepted(self) -> None:
        said = replace(KNOWN, workloads=(worlds.workload("fresh", 99),))
        after = merged(KNOWN, said, {"workload/fresh", "workload/db"})
        self.assertEqual([w.name for w in after.workloads], ["queue", "app", "web", "fresh"])


class Uses(unittest.TestCase):
    """What needs what."""

    def rows(self) -> list[object]:
        web = replace(worlds.workload("web", 14), uses=("db-service", "nobody"))
        lone = replace(worlds.workload("lone", 12), uses=("web-service",))
        made = ((web, "shop"), (worlds.workload("db", 11), ""), (lone, ""))
        return [row_of(to_data(workload), "A", group) for workload, group in made]

    def test_a_use_names_who_provides_it_or_nobody(self) -> None:
        found = [(use.service, use.provider) for use in uses(self.rows())]  # type: ignore[arg-type]
        self.assertEqual(found, [("db-service", "db"), ("nobody", ""), ("web-service", "web")])

    def test_what_protected_workloads_need_comes_first(self) -> None:
        first, second = gaps(self.rows())  # type: ignore[arg-type]
        self.assertEqual((first.workload, first.needed_by, first.services), ("db", ("web",), ("db-service",)))
        self.assertEqual((second.workload, second.needed_by, second.needs), ("lone", (), ("web",)))


class Checks(unittest.TestCase):
    """What is refused, by field."""

    SITE = Inventory(
        storage_pools=worlds.target().storage_pools,
        networks=(Network(name="a-net", vlan=1, prefixes=(ip_network("10.1.0.0/24"),)),),
    )

    def complaints(self, **changes: object) -> list[str]:
        disk = replace(worlds.WORKLOADS["db"].disks[0], storage_pool="b-disk")
        workload = replace(worlds.WORKLOADS["db"], **{"disks": (disk,), **changes})  # type: ignore[arg-type]
        return [field for field, _, _ in workload_complaints(workload, self.SITE)]

    def test_a_good_workload_has_none(self) -> None:
        self.assertEqual(self.complaints(), [])

    def test_each_bad_field_is_named(self) -> None:
        nic = worlds.WORKLOADS["db"].nics[0]
        far = replace(nic, addresses=(ip_interface("192.168.1.1/24"),))
        cases: dict[str, object] = {
            "name": "two words",
            "cores": 0,
            "memory_mib": 0,
            "tags": {"a b": "c"},
            "nics": (far,),
            "disks": worlds.WORKLOADS["db"].disks,
        }
        for field, value in cases.items():
            with self.subTest(field):
                self.assertEqual(self.complaints(**{field: value}), [field])

    def test_a_disk_left_out_wants_a_reason(self) -> None:
        disk = replace(worlds.WORKLOADS["db"].disks[0], storage_pool="b-disk", left_out_because=" ")
        self.assertEqual(self.complaints(disks=(disk,)), ["disks"])

    def test_networks_must_hold_together(self) -> None:
        good = self.SITE.networks[0]
        for bad in (
            replace(good, vlan=5000),
            replace(good, routes_to=("nowhere",)),
            replace(good, gateways=("ten",)),
            replace(good, dhcp_ranges=("10.1.0.9-10.1.0.2",)),
        ):
            self.assertTrue(list(inventory_complaints(replace(self.SITE, networks=(bad,)))))
        self.assertFalse(list(inventory_complaints(self.SITE)))

    def test_a_link_without_bandwidth_or_with_an_odd_window_is_refused(self) -> None:
        link_check(Link(one="A", other="B", bandwidth_bps=1))
        odd = ThrottleWindow(days=("mon",), begins="8", ends="18:00", share=0.5)
        for link in (
            Link(one="A", other="B", bandwidth_bps=0),
            Link(one="A", other="B", bandwidth_bps=10**30),
            Link(one="A", other="B", bandwidth_bps=1, latency_ms=1e300),
            Link(one="A", other="B", bandwidth_bps=1, loss=1.0),
            Link(one="A", other="B", bandwidth_bps=1, windows=(odd,)),
            Link(one="A", other="B", bandwidth_bps=1, windows=(replace(odd, begins="08:00", share=2.0),)),
        ):
            with self.assertRaises(BadValue):
                link_check(link)


if __name__ == "__main__":
    unittest.main()
