"""Turning a crosswalk round, and proposing what it lacks."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import IPv4Network, ip_interface, ip_network

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.landing.ground import Ground
from maestoso.core.landing.match import Proposal, propose
from maestoso.core.landing.resolve import resolve
from maestoso.core.landing.twin import twin
from maestoso.core.landing.unmapped import sources, unmapped
from maestoso.core.model.crosswalk import (
    AddressRule,
    Crosswalk,
    NetworkRow,
    NicEntry,
    NicSide,
    PoolRow,
    Readdress,
    WorkloadEntry,
)
from maestoso.core.model.estate import HostPool, Inventory, Network, StoragePool
from tests import worlds

EMPTY = Crosswalk(source="A", target="B")


def rule(prefix: str, to: str) -> AddressRule:
    """A translation, the same live and in a test."""
    says = Readdress(action="translate", to=ip_network(to))
    return AddressRule(prefix=ip_network(prefix), live=says, test=says)


@st.composite
def reversible(draw: st.DrawFn) -> Crosswalk:
    """One to one everywhere, with prefixes that do not meet."""
    count = draw(st.integers(0, 5))
    order = draw(st.permutations(range(count)))
    length = draw(st.integers(16, 30))
    size = 2 ** (32 - length)
    rules = []
    for index, other in enumerate(order):
        prefix = IPv4Network((0x0A000000 + index * size, length))
        keep = draw(st.booleans())
        says = (
            Readdress(action="keep") if keep
            else Readdress(action="translate", to=IPv4Network((0xAC100000 + other * size, length)))
        )  # fmt: skip
        rules.append(AddressRule(prefix=prefix, live=says, test=says))
    return Crosswalk(
        source="A", target="B", address_rules=tuple(rules), new_macs=draw(st.booleans()),
        networks=tuple(NetworkRow(source=f"a{i}", live=f"b{o}") for i, o in enumerate(order)),
        host_pools=tuple(PoolRow(source=f"a{i}", target=f"b{o}") for i, o in enumerate(order)),
        storage_pools=tuple(PoolRow(source=f"a{i}", target=f"b{o}") for i, o in enumerate(order)),
        folders=tuple(PoolRow(source=f"a{i}", target=f"b{o}") for i, o in enumerate(order)),
    )  # fmt: skip


class Twins(unittest.TestCase):
    """The reverse crosswalk."""

    GROUND = worlds.ground()

    @given(reversible())
    def test_the_twin_of_the_twin_is_the_same(self, walk: Crosswalk) -> None:
        there = twin(walk, self.GROUND)
        back = twin(there.crosswalk, self.GROUND)
        self.assertEqual((there.one_way, back.one_way), ((), ()))
        self.assertEqual(back.crosswalk, walk)

    def test_a_landing_comes_home_to_what_it_was(self) -> None:
        walk = worlds.crosswalk()
        there = resolve((worlds.WORKLOADS["db"],), walk, self.GROUND, "live")[0].landing
        nic = replace(
            worlds.WORKLOADS["db"].nics[0], network="b-net", addresses=there.nics[0].addresses,
            gateways=there.nics[0].gateways,
        )  # fmt: skip
        away = replace(worlds.WORKLOADS["db"], nics=(nic,), disks=())
        home = resolve((away,), twin(walk, self.GROUND).crosswalk, self.GROUND, "live")[0]
        self.assertEqual(home.findings, ())
        self.assertEqual(home.landing.nics[0].network, "a-net")
        self.assertEqual(home.landing.nics[0].addresses, worlds.WORKLOADS["db"].nics[0].addresses)
        self.assertEqual(home.landing.nics[0].gateways, ("10.1.0.1",))

    def lost(self, ground: Ground | None = None, **changes: object) -> dict[str, str]:
        found = twin(worlds.crosswalk(**changes), ground or self.GROUND)
        return {one.row: one.why for one in found.one_way}

    def test_two_to_one_is_named(self) -> None:
        rows = (NetworkRow(source="a1", live="b"), NetworkRow(source="a2", live="b"))
        self.assertEqual(set(self.lost(networks=rows)), {"network a1 to b", "network a2 to b"})
        pools = (PoolRow(source="a1", target="b"), PoolRow(source="a2", target="b"))
        self.assertEqual(len(self.lost(host_pools=pools, folders=pools, storage_pools=pools)), 6)

    def test_a_sandbox_belongs_to_its_site(self) -> None:
        rows = (NetworkRow(source="a-net", live="b-net", sandbox="b-lab"),)
        self.assertIn("tests at A make their own", self.lost(networks=rows)["sandbox of a-net"])

    def test_a_pool_at_home_that_is_replicated(self) -> None:
        pools = (StoragePool(name="a-disk", capacity_gib=10, replicated=True),)
        ground = Ground({"A": worlds.source(storage_pools=pools), "B": worlds.target()})
        self.assertIn("storage pool a-disk to b-disk", self.lost(ground))

    def test_rules_whose_addresses_meet(self) -> None:
        meet = (rule("10.1.0.0/24", "10.9.0.0/24"), rule("10.2.0.0/24", "10.9.0.0/24"))
        lost = self.lost(address_rules=meet)
        self.assertEqual(set(lost), {"address rule for 10.1.0.0/24", "address rule for 10.2.0.0/24"})
        nested = (rule("10.1.0.0/16", "172.16.0.0/16"), rule("10.1.4.0/24", "172.16.4.0/24"))
        self.assertEqual(self.lost(address_rules=nested), {})
        crossed = (rule("10.1.0.0/16", "172.16.0.0/16"), rule("10.1.4.0/24", "172.16.9.0/24"))
        self.assertEqual(len(self.lost(address_rules=crossed)), 2)

    def test_dhcp_and_table_do_not_say_where_it_went(self) -> None:
        for action, word in (("dhcp", "does not say which"), ("table", "leaves the addresses")):
            says = Readdress(action=action)  # type: ignore[arg-type]
            made = AddressRule(prefix=ip_network("10.1.0.0/24"), live=says, test=says)
            self.assertIn(word, self.lost(address_rules=(made,))["address rule for 10.1.0.0/24"])

    def test_a_table_entry_goes_home_to_its_own_address(self) -> None:
        entry = NicEntry(workload="db", nic="nic0", live=NicSide(addresses=(ip_interface("10.2.0.99/24"),)))
        back = twin(worlds.crosswalk(table=(entry,)), self.GROUND).crosswalk.table[0]
        self.assertEqual(back.live.addresses if back.live else (), worlds.WORKLOADS["db"].nics[0].addresses)
        self.assertEqual(len(self.lost(table=(replace(entry, nic="nic9"),))), 1)
        self.assertEqual(len(self.lost(exceptions=(WorkloadEntry(workload="db", cores=1),))), 1)


def net(name: str, prefix: str, **changes: object) -> Network:
    """A network with one prefix and its first address as the gateway."""
    made = Network(name=name, vlan=0, prefixes=(ip_network(prefix),),
                   gateways=(str(ip_network(prefix)[1]),))  # fmt: skip
    return replace(made, **changes)  # type: ignore[arg-type]


class Proposals(unittest.TestCase):
    """Rows that could be added, with a reason."""

    def proposals(self, home: Inventory, away: Inventory, walk: Crosswalk = EMPTY) -> list[Proposal]:
        return list(propose(walk, Ground({"A": home, "B": away})))

    def test_networks_by_name_size_and_vlan(self) -> None:
        home = Inventory(networks=(net("a-app", "10.1.0.0/24"), net("a-data", "10.1.2.0/23", vlan=7)))
        away = Inventory(networks=(net("b-db", "10.8.2.0/23", vlan=7), net("b-app", "10.8.0.0/24", vlan=3)))
        found = {p.source: p for p in self.proposals(home, away)}
        self.assertEqual((found["a-app"].target, found["a-data"].target), ("b-app", "b-db"))
        self.assertIn("both are called app", found["a-app"].reason)
        self.assertIn("both are VLAN 7", found["a-data"].reason)
        self.assertGreater(found["a-app"].confidence, found["a-data"].confidence)
        moved = found["10.1.0.0/24"].rule
        assert moved is not None
        self.assertEqual(moved.live.to, ip_network("10.8.0.0/24"))
        self.assertEqual((moved.live.gateway, moved.live), ("10.8.0.1", moved.test))

    def test_a_stretched_segment_is_certain_and_keeps_its_addresses(self) -> None:
        home = Inventory(
            networks=(net("one", "10.1.0.0/24", stretched_with="B/two"), net("zwei", "10.3.0.0/24"))
        )
        away = Inventory(networks=(net("two", "10.1.0.0/24"), net("lab", "10.1.0.0/24", role="sandbox")))
        first = self.proposals(home, away)[0]
        self.assertEqual((first.target, first.confidence), ("two", 1.0))
        self.assertEqual(first.network, NetworkRow(source="one", live="two", sandbox="lab"))
        kept = next(p for p in self.proposals(home, away) if p.source == "10.1.0.0/24")
        self.assertEqual((kept.rule.live.action if kept.rule else "", kept.confidence), ("keep", 1.0))

    def test_nothing_alike_is_not_proposed(self) -> None:
        home = Inventory(networks=(net("alpha", "10.1.0.0/24"),))
        away = Inventory(networks=(net("omega", "10.8.0.0/20"),))
        self.assertEqual(self.proposals(home, away), [])

    def test_pools_by_name_else_the_only_one_else_the_roomiest_that_is_not_replicated(self) -> None:
        home = Inventory(
            host_pools=(HostPool(name="a-blue", hosts=1, cores=1, memory_mib=1),),
            storage_pools=(
                StoragePool(name="a-fast", capacity_gib=9),
                StoragePool(name="a-x", capacity_gib=9),
            ),
        )
        away = Inventory(
            host_pools=(HostPool(name="b-red", hosts=1, cores=1, memory_mib=1),),
            storage_pools=(
                StoragePool(name="b-fast", capacity_gib=10), StoragePool(name="b-big", capacity_gib=90),
                StoragePool(name="b-mirror", capacity_gib=900, replicated=True),
            ),
        )  # fmt: skip
        found = {p.source: p for p in self.proposals(home, away)}
        self.assertEqual({s: p.target for s, p in found.items()},
                         {"a-blue": "b-red", "a-fast": "b-fast", "a-x": "b-big"})  # fmt: skip
        self.assertIn("90 GiB free", found["a-x"].reason)

    def test_name_servers_that_move_are_asked_where_they_will_be(self) -> None:
        server = worlds.workload("names", 5)
        home = worlds.source(workloads=(*worlds.WORKLOADS.values(), server))
        made = next(p.rule for p in self.proposals(home, worlds.target()) if p.source == "10.1.0.0/24")
        assert made is not None
        self.assertEqual(made.live.dns, ("10.2.0.5",))

    def test_two_networks_are_not_sent_into_one_prefix_while_another_is_free(self) -> None:
        here = [Network(name=f"a-{n}", vlan=n, prefixes=(ip_network(f"10.1.{n}.0/24"),)) for n in (1, 2, 3)]
        wide = Network(name="b-all", vlan=9, prefixes=(ip_network("10.2.1.0/24"), ip_network("10.2.2.0/23")))
        ground = Ground({"A": Inventory(networks=tuple(here)), "B": Inventory(networks=(wide,))})
        rows = tuple(NetworkRow(source=network.name, live="b-all") for network in here)
        found = [one for one in propose(replace(EMPTY, networks=rows), ground) if one.kind == "address rule"]
        self.assertEqual([one.target for one in found], ["10.2.1.0/24", "10.2.2.0/23", "10.2.1.0/24"])
        self.assertEqual([one.confidence for one in found], [0.9, 0.5, 0.2])
        self.assertIn("another network goes to 10.2.1.0/24 already", found[2].reason)

    def test_what_has_a_row_is_left_alone(self) -> None:
        walk = worlds.crosswalk()
        self.assertEqual(self.proposals(worlds.source(), worlds.target(), walk), [])
        self.assertEqual(unmapped(walk, worlds.ground()), ())

    def test_an_accepted_set_of_proposals_lands_everything(self) -> None:
        found = propose(EMPTY, worlds.ground())
        walk = replace(
            EMPTY,
            networks=tuple(p.network for p in found if p.network),
            host_pools=tuple(p.pool for p in found if p.pool and p.kind == "host pool"),
            storage_pools=tuple(p.pool for p in found if p.pool and p.kind == "storage pool"),
            address_rules=tuple(p.rule for p in found if p.rule),
        )
        for one in resolve(tuple(worlds.WORKLOADS.values()), walk, worlds.ground(), "live"):
            self.assertEqual(one.findings, ())


class Unmapped(unittest.TestCase):
    """What is missing, by the number of workloads that wait for it."""

    def test_everything_of_an_empty_crosswalk_the_most_wanted_first(self) -> None:
        workloads = (replace(worlds.WORKLOADS["db"], folder="shop"), worlds.WORKLOADS["app"])
        ground = Ground({"A": worlds.source(workloads=workloads), "B": worlds.target()})
        found = [(one.kind, one.name, one.workloads) for one in unmapped(EMPTY, ground)]
        self.assertEqual(found[0][2], 2)
        self.assertEqual(
            set(found),
            {("network", "a-net", 2), ("host pool", "a-hosts", 2), ("storage pool", "a-disk", 2),
             ("address rule", "10.1.0.0/24", 2), ("folder", "shop", 1)},
        )  # fmt: skip

    def test_what_nobody_uses_is_a_source_but_not_missing(self) -> None:
        bare = Ground({"A": worlds.source(), "B": worlds.target()})
        self.assertEqual(unmapped(EMPTY, bare), ())
        self.assertEqual({one.kind for one in sources("A", bare)}, {"network", "host pool", "storage pool"})

    def test_an_adapter_of_the_table_needs_no_rule(self) -> None:
        entries = tuple(NicEntry(workload=name, nic="nic0") for name in worlds.NAMES)
        walk = worlds.crosswalk(address_rules=(), table=entries)
        self.assertEqual(unmapped(walk, worlds.ground()), ())
