"""There and back again: every adapter is what it was, whatever the crosswalk did to it on the way."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import ip_interface, ip_network

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.landing.arrived import arrived
from maestoso.core.landing.ground import Ground, Home
from maestoso.core.landing.resolve import resolve
from maestoso.core.landing.twin import twin
from maestoso.core.model.crosswalk import AddressRule, Crosswalk, NicEntry, NicSide, Readdress
from maestoso.core.model.estate import Inventory, Nic, Workload
from tests import worlds
from tests.worlds import crosswalk, source, target, translate_to

BACK = "10.1.0.0/24"
RESERVED = "10.1.0.77"


def there_and_back(
    workload: Workload, out: Crosswalk, home: Inventory, back: Crosswalk | None = None
) -> tuple[Workload, Workload]:
    """A workload as it is away, and as it is at home again."""
    ground = Ground({"A": replace(home, workloads=(workload,)), "B": target()})
    (landed,) = resolve([workload], out, ground, "live")
    away = arrived(workload, landed.landing)
    homes = {workload.name: Home(site="A", nics=workload.nics)}
    later = Ground({"A": home, "B": target(workloads=(away,))}, homes)
    (again,) = resolve([away], back or twin(out, ground).crosswalk, later, "live")
    return away, arrived(away, again.landing)


def adapters() -> st.SearchStrategy[Nic]:
    """Adapters at Eastside: static ones with odd settings, and such on DHCP."""
    hosts = st.integers(2, 76).map(lambda host: ip_interface(f"10.1.0.{host}/24"))
    static = st.builds(
        Nic, name=st.just("nic0"), network=st.just("a-net"), mac=st.sampled_from(("02:00:00:00:00:0b", "0a:1:2")),
        addresses=hosts.map(lambda one: (one,)), gateways=st.sampled_from(((), ("10.1.0.1",), ("10.1.0.9",))),
        dns=st.sampled_from(((), ("10.1.0.5",), ("192.0.2.9", "10.1.0.5"))),
    )  # fmt: skip
    asking = st.builds(
        Nic, name=st.just("nic0"), network=st.just("a-net"), mac=st.just("02:00:00:00:00:0c"), dhcp=st.just(True),
        addresses=st.sampled_from(((), (ip_interface(f"{RESERVED}/24"),))),
    )  # fmt: skip
    return st.one_of(static, asking)


def crosswalks() -> st.SearchStrategy[Crosswalk]:
    """Ways to Westside by every kind of rule, with new MACs or without, with a table entry or without."""
    rules = st.sampled_from(
        (
            translate_to("10.2.0.0/24", "10.2.0.1"), translate_to("10.2.0.0/23"), Readdress(action="keep"),
            Readdress(action="dhcp"), Readdress(action="dhcp", to=ip_network("10.2.0.0/24")),
            translate_to("10.2.0.0/24", "10.2.0.254"),
        )
    )  # fmt: skip
    entry = NicEntry(
        workload="db", nic="nic0", mac="02:aa:00:00:00:01",
        live=NicSide(addresses=(ip_interface("10.2.0.200/24"),), gateways=("10.2.0.7",), dns=("10.2.0.8",)),
    )  # fmt: skip
    return st.builds(
        lambda live, macs, table: crosswalk(
            address_rules=(AddressRule(prefix=ip_network(BACK), live=live, test=live),), new_macs=macs,
            table=(entry,) if table else (),
        ),
        rules, st.booleans(), st.booleans(),
    )  # fmt: skip


class RoundTrips(unittest.TestCase):
    @given(adapters(), crosswalks(), st.booleans())
    def test_at_home_again_every_adapter_is_what_it_was(
        self, nic: Nic, out: Crosswalk, reserved: bool
    ) -> None:
        workload = worlds.workload("db", 11, nics=(nic,))
        (network,) = source().networks
        reservations = {nic.mac: RESERVED} if reserved and nic.dhcp else {}
        home = source(networks=(replace(network, dhcp=True, reservations=reservations),))
        _, again = there_and_back(workload, out, home)
        (found,) = again.nics
        held = (ip_interface(f"{RESERVED}/24"),) if reservations else ()
        wanted = replace(nic, addresses=held) if nic.dhcp else nic
        self.assertEqual(found, wanted)

    def test_an_entry_of_the_way_back_says_otherwise(self) -> None:
        workload = worlds.workload("db", 11)
        out = crosswalk()
        side = NicSide(addresses=(ip_interface("10.1.0.99/24"),))
        entry = NicEntry(workload="db", nic="nic0", live=side)
        back = replace(twin(out, worlds.ground()).crosswalk, table=(entry,))
        _, again = there_and_back(workload, out, source(), back)
        self.assertEqual(again.nics[0].addresses, (ip_interface("10.1.0.99/24"),))
        self.assertEqual(again.nics[0].mac, workload.nics[0].mac)

    def test_who_was_never_there_lands_by_the_rules(self) -> None:
        stranger = worlds.workload("new", 30)
        moved = replace(stranger, nics=(replace(stranger.nics[0], network="b-net"),))
        back = Crosswalk(source="B", target="A")
        ground = Ground({"A": source(), "B": target(workloads=(moved,))}, {})
        (found,) = resolve([moved], back, ground, "live")
        self.assertIn("no-network-row", [finding.code for finding in found.findings])

    def test_a_reservation_of_the_target_for_its_mac_holds(self) -> None:
        asking = Nic(name="nic0", network="a-net", mac="02:00:00:00:00:0b", dhcp=True)
        workload = worlds.workload("db", 11, nics=(asking,))
        (network, lab) = target().networks
        with_one = replace(network, dhcp=True, reservations={asking.mac: "10.2.0.66"})
        ground = Ground({"A": source(workloads=(workload,)), "B": target(networks=(with_one, lab))})
        (found,) = resolve([workload], crosswalk(new_macs=False), ground, "live")
        (nic,) = found.landing.nics
        self.assertEqual((nic.addresses, nic.decided), ((ip_interface("10.2.0.66/24"),), "reservation"))


if __name__ == "__main__":
    unittest.main()
