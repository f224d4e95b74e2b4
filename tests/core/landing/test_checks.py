"""Every finding between landings and what is there: provoked once, and gone when mended."""

from __future__ import annotations

import re
import unittest
from dataclasses import replace
from ipaddress import ip_interface, ip_network
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.landing.crosswalk_checks import check_crosswalk, reverse_missing
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.judge import judge_landings
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
from maestoso.core.model.estate import HostPool, Inventory, Network, Nic, StoragePool, Workload
from maestoso.core.model.finding import Finding
from tests import worlds

DB, APP = worlds.WORKLOADS["db"], worlds.WORKLOADS["app"]
B_NET = worlds.target().networks[0]
KEEP = Readdress(action="keep")


def walk_with(**changes: object) -> Crosswalk:
    """The crosswalk of the small world, changed."""
    return worlds.crosswalk(**changes)


def entry(host: int, side: Side = "live", **changes: object) -> NicEntry:
    """The table gives db an address at the target."""
    chosen = replace(NicSide(addresses=(ip_interface(f"10.2.0.{host}/24"),)), **changes)  # type: ignore[arg-type]
    return NicEntry(workload="db", nic="nic0", **{side: chosen})


def networks(*changed: Network) -> Inventory:
    """Site B with these networks in place of those of the same name."""
    known = {network.name: network for network in (*worlds.target().networks, *changed)}
    return worlds.target(networks=tuple(known.values()))


def judged(
    walk: Crosswalk, place: Inventory | None = None, side: Side = "live",
    workloads: tuple[Workload, ...] = (DB,), source: Inventory | None = None,
) -> list[Finding]:  # fmt: skip
    """Findings about landing these workloads."""
    home = replace(source or worlds.source(), workloads=workloads)
    ground = Ground({"A": home, "B": place or worlds.target()})
    return list(judge_landings(walk, ground, workloads, side, ()).findings)


class BetweenLandings(unittest.TestCase):
    """Each finding with its code, and a sentence that names what matters."""

    def only(self, found: list[Finding], code: str, *words: str) -> Finding:
        self.assertEqual([finding.code for finding in found], [code])
        for word in words:
            self.assertIn(word, found[0].sentence)
        self.assertTrue(found[0].mend)
        return found[0]

    def test_nothing_is_wrong_with_the_small_world(self) -> None:
        for side in ("live", "test"):
            self.assertEqual(judged(walk_with(), side=side, workloads=tuple(worlds.WORKLOADS.values())), [])

    def test_two_workloads_on_one_address_are_named_both(self) -> None:
        found = judged(walk_with(table=(entry(13),)), workloads=(DB, APP))
        self.assertEqual(self.only(found, "address-clash", "db", "app", "10.2.0.13").others, ("db",))

    def test_two_adapters_with_one_mac(self) -> None:
        twins = (DB, replace(APP, nics=(replace(APP.nics[0], mac=DB.nics[0].mac),)))
        self.only(judged(walk_with(new_macs=False), workloads=twins), "mac-twice", "db", DB.nics[0].mac)
        self.assertEqual(judged(walk_with(), workloads=twins), [])

    def test_an_address_that_somebody_at_the_target_has(self) -> None:
        theirs = Workload(
            name="old", cores=1, memory_mib=1, disks=(),
            nics=(Nic(name="n", network="b-net", mac=DB.nics[0].mac, addresses=DB.nics[0].addresses),),
        )  # fmt: skip
        here = replace(theirs, nics=(replace(theirs.nics[0], addresses=(ip_interface("10.2.0.11/24"),)),))
        place = worlds.target(workloads=(here,))
        self.only(judged(walk_with(), place), "address-in-use", "10.2.0.11", "old has it")
        self.assertEqual(judged(walk_with(), place, side="test"), [])  # the test makes its own network
        found = judged(walk_with(new_macs=False, table=(entry(44),)), place)
        self.only(found, "mac-twice", "old")

    def test_the_gateway_and_a_reservation_are_in_use_too(self) -> None:
        found = judged(walk_with(table=(entry(1),)))
        self.only(found, "address-in-use", "the gateway of b-net")
        place = networks(replace(B_NET, reservations={"02:00:00:00:00:77": "10.2.0.11"}))
        self.only(judged(walk_with(), place), "address-in-use", "a reservation for 02:00:00:00:00:77")

    def test_a_kept_address_on_a_network_that_is_not_stretched(self) -> None:
        rule = AddressRule(prefix=ip_network("10.1.0.0/24"), live=KEEP, test=KEEP)
        walk = walk_with(address_rules=(rule,))
        place = networks(replace(B_NET, prefixes=(ip_network("10.1.0.0/24"),), gateways=("10.1.0.1",)))
        self.only(judged(walk, place), "kept-not-stretched", "10.1.0.11", "not stretched with a-net")
        self.assertEqual(judged(walk, place, side="test"), [])
        stretched = networks(replace(place.networks[0], stretched_with="A/a-net"))
        self.assertEqual(judged(walk, stretched), [])

    def test_a_gateway_that_nobody_holds(self) -> None:
        found = judged(walk_with(table=(entry(44, gateways=("10.2.0.254",)),)))
        self.assertIn("10.2.0.1", self.only(found, "gateway-unheld", "10.2.0.254").mend)
        router = (*found, judged(
            walk_with(table=(entry(44, gateways=("10.2.0.13",)),)), workloads=(DB, APP)
        ))  # fmt: skip
        self.assertEqual(router[-1], [])  # app lands on that address

    def test_dhcp_without_a_server_and_without_room(self) -> None:
        says = Readdress(action="dhcp")
        walk = walk_with(address_rules=(AddressRule(prefix=ip_network("10.1.0.0/24"), live=says, test=says),))
        self.only(judged(walk), "no-dhcp", "nobody answers")
        one = replace(B_NET, dhcp=True, dhcp_ranges=("10.2.0.50-10.2.0.50",))
        self.assertEqual(judged(walk, networks(one)), [])
        found = judged(walk, networks(one), workloads=(DB, APP))
        self.only(found, "dhcp-full", "2 adapters", "1 of 1")
        there = Workload(
            name="old", cores=1, memory_mib=1, disks=(),
            nics=(Nic(name="n", network="b-net", mac="02:00:00:00:00:78", dhcp=True),),
        )  # fmt: skip
        busy = replace(networks(one), workloads=(there,))
        self.only(judged(walk, busy), "dhcp-full", "0 of 1")
        self.assertEqual(judged(walk, busy, side="test"), [])  # nobody else is on the test's own network

    def test_a_static_address_in_a_dhcp_range(self) -> None:
        place = networks(replace(B_NET, dhcp=True, dhcp_ranges=("10.2.0.10-10.2.0.20",)))
        self.only(judged(walk_with(), place), "address-in-dhcp-range", "10.2.0.11")

    def test_two_of_one_name(self) -> None:
        exception = WorkloadEntry(workload="db", name="app")
        found = judged(walk_with(exceptions=(exception,)), workloads=(DB, APP))
        self.assertEqual({(f.code, f.subject) for f in found}, {("name-taken", "db"), ("name-taken", "app")})
        self.assertEqual(judged(walk_with(exceptions=(exception,)), side="test", workloads=(DB, APP)), [])

    def test_a_name_server_that_stays_behind(self) -> None:
        asks = replace(DB, nics=(replace(DB.nics[0], dns=("10.1.0.13",)),))
        found = judged(walk_with(), workloads=(asks, APP))
        self.only(found, "dns-stays-behind", "10.1.0.13", "app at A")
        self.assertEqual(judged(walk_with(), side="test", workloads=(asks, APP)), [])
        moved = replace(
            worlds.crosswalk().address_rules[0],
            live=Readdress(action="translate", to=ip_network("10.2.0.0/24"), dns=("10.2.0.13",)),
        )
        self.assertEqual(judged(walk_with(address_rules=(moved,)), workloads=(asks, APP)), [])

    def test_no_agent_to_tell_the_guest(self) -> None:
        self.only(judged(walk_with(), workloads=(replace(DB, guest_agent=False),)), "injection-without-agent")


class Isolation(unittest.TestCase):
    """A way from a sandbox to production is shown hop by hop."""

    ROWS = (NetworkRow(source="a-net", live="b-net", sandbox="b-lab"),)
    LAB = worlds.target().networks[1]

    def leaks(
        self, place: Inventory, workloads: tuple[Workload, ...] = (DB,), **changes: object
    ) -> list[Finding]:
        return judged(walk_with(networks=self.ROWS, **changes), place, "test", workloads)

    def test_a_fixed_sandbox_without_a_way_out(self) -> None:
        self.assertEqual(self.leaks(worlds.target()), [])

    def test_a_route_is_a_way_in_either_direction(self) -> None:
        for place in (
            networks(replace(self.LAB, routes_to=("b-net",))),
            networks(replace(B_NET, routes_to=("b-lab",))),
        ):
            (found,) = self.leaks(place)
            self.assertEqual(found.code, "sandbox-not-isolated")
            self.assertIn("from b-lab, by a route to b-net", found.sentence)

    def test_over_several_hops_and_a_stretched_segment(self) -> None:
        mid = Network(name="b-mid", vlan=30, prefixes=(), role="transit", stretched_with="A/a-net")
        place = networks(replace(self.LAB, routes_to=("b-mid",)), mid)
        found = self.leaks(place)
        self.assertIn("by a route to b-mid, by the stretched segment to a-net", found[0].sentence)

    def test_a_workload_on_both_networks_joins_them(self) -> None:
        nics = tuple(Nic(name=n, network=n, mac="") for n in ("b-lab", "b-net"))
        bridge = Workload(name="jump", cores=1, memory_mib=1, disks=(), nics=nics)
        (found,) = self.leaks(worlds.target(workloads=(bridge,)))
        self.assertIn("by jump, which is on both to b-net", found.sentence)

    def test_a_copy_with_a_second_adapter_joins_them_too(self) -> None:
        second = replace(DB.nics[0], name="nic1", mac="02:00:00:00:00:99",
                         addresses=(ip_interface("10.1.0.99/24"),))  # fmt: skip
        two = replace(DB, nics=(DB.nics[0], second))
        open_side = NicEntry(workload="db", nic="nic1", test=NicSide(network="b-net"))
        found = self.leaks(worlds.target(), (two,), table=(open_side,))
        self.assertTrue(any("by db, which is on both" in finding.sentence for finding in found))

    def test_a_test_address_that_production_has_where_packets_find_both(self) -> None:
        theirs = Nic(name="n", network="b-net", mac="", addresses=(ip_interface("10.2.0.11/24"),))
        old = Workload(name="old", cores=1, memory_mib=1, disks=(), nics=(theirs,))
        place = replace(networks(replace(self.LAB, routes_to=("b-net",))), workloads=(old,))
        found = self.leaks(place)
        self.assertEqual([f.code for f in found], ["sandbox-not-isolated", "test-equals-production"])
        self.assertIn("old", found[1].sentence)
        apart = replace(networks(), workloads=(old,))
        self.assertEqual(self.leaks(apart), [])  # the same address without a way is what a sandbox is for


class Rooms(unittest.TestCase):
    """Room is judged with its figures."""

    def found(self, side: Side = "live", copied: tuple[str, ...] = (), **changes: object) -> list[Finding]:
        ground = worlds.ground(target_site=worlds.target(**changes))
        workloads = tuple(worlds.WORKLOADS.values())
        return list(judge_landings(walk_with(), ground, workloads, side, copied).findings)

    def test_cores_are_shared_and_memory_is_not(self) -> None:
        tight = HostPool(name="b-hosts", hosts=2, cores=32, memory_mib=131072, used_cores=28,
                         used_memory_mib=120000)  # fmt: skip
        found = {f.severity: f.sentence for f in self.found(host_pools=(tight,))}
        self.assertIn("8 cores; b-hosts has 4 free", found["warns"])
        self.assertIn("16 GiB of memory; b-hosts has 10 GiB free", found["blocks"])

    def test_hosts_in_standby_are_counted_apart(self) -> None:
        asleep = HostPool(name="b-hosts", hosts=4, standby_hosts=1, cores=32, memory_mib=65536,
                          used_memory_mib=40000)  # fmt: skip
        (found,) = self.found(host_pools=(asleep,))
        self.assertEqual(found.severity, "warns")
        self.assertIn("16 more in standby", found.sentence)
        self.assertIn("Wake", found.mend)

    def test_space_for_live_is_for_what_is_not_copied_yet(self) -> None:
        full = (StoragePool(name="b-disk", capacity_gib=100, used_gib=40),)
        (found,) = self.found(storage_pools=full)
        self.assertEqual((found.severity, found.subject), ("blocks", "b-disk"))
        self.assertIn("160 GiB of space; b-disk has 60 GiB free", found.sentence)
        self.assertEqual(self.found(copied=tuple(worlds.NAMES), storage_pools=full), [])
        self.assertEqual(self.found(side="test", storage_pools=full), [])
        fuller = (StoragePool(name="b-disk", capacity_gib=100, used_gib=95),)
        (found,) = self.found(side="test", storage_pools=fuller)
        self.assertEqual(found.severity, "warns")


class Documented(unittest.TestCase):
    """Whoever meets a code can look it up."""

    def test_every_finding_about_landings_is_in_the_documentation(self) -> None:
        core = Path(__file__).resolve().parents[3] / "src" / "maestoso" / "core"
        files = [*(core / "landing").glob("*.py"), core / "readiness" / "landing_rules.py"]
        said = (core.parents[2] / "docs" / "crosswalks.md").read_text(encoding="utf-8")
        codes = {
            code
            for file in files
            for code in re.findall(
                r'(?:blocks|warns|note|made|_unknown)\(\s*"([a-z-]+)"', file.read_text(encoding="utf-8")
            )
        }
        self.assertGreater(len(codes), 30)
        missing = codes - set(re.findall(r"`([a-z-]+)`", said))
        self.assertEqual(missing, {"crosswalk-missing", "site-unreachable"})  # said of plans, in runs.md


class OfTheCrosswalk(unittest.TestCase):
    """Findings about rows, whatever lands by them."""

    def found(
        self, walk: Crosswalk, place: Inventory | None = None, source: Inventory | None = None
    ) -> list[str]:
        home = replace(source or worlds.source(), workloads=(DB,))
        return [f.code for f in check_crosswalk(walk, Ground({"A": home, "B": place or worlds.target()}))]

    def test_the_small_world_is_right(self) -> None:
        self.assertEqual(self.found(walk_with()), [])

    def test_a_source_with_two_rows(self) -> None:
        rows = worlds.crosswalk().networks * 2
        self.assertEqual(self.found(walk_with(networks=rows)), ["row-twice"])

    def test_two_rules_of_equal_length(self) -> None:
        rules = worlds.crosswalk().address_rules * 2
        self.assertEqual(self.found(walk_with(address_rules=rules)), ["rules-overlap"])

    def test_rows_and_entries_about_what_is_gone(self) -> None:
        rows = (*worlds.crosswalk().networks, NetworkRow(source="a-old", live="b-old"))
        self.assertEqual(self.found(walk_with(networks=rows)), ["row-gone", "row-gone"])
        pools = (PoolRow(source="a-hosts", target="b-old"),)
        self.assertEqual(self.found(walk_with(host_pools=pools)), ["row-gone"])
        folders = (PoolRow(source="shop", target="recovered/shop"),)
        self.assertEqual(self.found(walk_with(folders=folders)), ["row-gone"])
        filed = worlds.target(folders=("recovered/shop",))
        self.assertEqual(self.found(walk_with(folders=folders), filed), [])
        table = (NicEntry(workload="db", nic="nic7"),)
        self.assertEqual(self.found(walk_with(table=table)), ["entry-gone"])
        self.assertEqual(self.found(walk_with(exceptions=(WorkloadEntry(workload="x"),))), ["entry-gone"])

    def test_a_replicated_pool(self) -> None:
        pools = (StoragePool(name="b-disk", capacity_gib=10, replicated=True),)
        self.assertEqual(
            self.found(walk_with(), worlds.target(storage_pools=pools)), ["landing-pool-replicated"]
        )

    def test_a_stretched_network_whose_ends_differ(self) -> None:
        here = replace(worlds.source().networks[0], stretched_with="B/b-net")
        same = replace(here, name="b-net", stretched_with="A/a-net")
        home = worlds.source(networks=(here,))
        self.assertEqual(self.found(walk_with(), networks(same), home), [])
        for wrong in (
            replace(same, stretched_with=None),
            replace(same, vlan=99),
            replace(same, prefixes=(ip_network("10.2.0.0/24"),)),
            replace(same, gateways=("10.1.0.254",)),
        ):
            self.assertEqual(self.found(walk_with(), networks(wrong), home), ["stretch-differs"])

    def test_live_and_test_on_one_network(self) -> None:
        rows = (NetworkRow(source="a-net", live="b-net", sandbox="b-net"),)
        self.assertEqual(self.found(walk_with(networks=rows)), ["live-and-test-meet"])
        table = (NicEntry(workload="db", nic="nic0", test=NicSide(network="b-net")),)
        self.assertEqual(self.found(walk_with(table=table)), ["live-and-test-meet"])

    def test_the_way_back_is_missing(self) -> None:
        (found,) = reverse_missing(None, walk_with())
        self.assertIn("B to A", found.sentence)
        self.assertEqual(list(reverse_missing(Crosswalk(source="B", target="A"), walk_with())), [])

    @given(st.lists(st.tuples(st.sampled_from("pqr"), st.sampled_from("xyz"), st.sampled_from(("", *"xyz")))))
    def test_live_and_test_never_meet_unsaid(self, pairs: list[tuple[str, str, str]]) -> None:
        rows = tuple(NetworkRow(source=a, live=b, sandbox=c or None) for a, b, c in pairs)
        made = tuple(Network(name=name, vlan=1, prefixes=()) for name in "xyz")
        meets = {row.sandbox for row in rows} & {row.live for row in rows}
        found = self.found(walk_with(networks=rows), worlds.target(networks=made))
        self.assertEqual("live-and-test-meet" in found, bool(meets))
