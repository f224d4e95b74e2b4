"""A test's own network is isolated, so a copy may have the address of the machine in production."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.landing import resolve as landing_resolve
from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import Crosswalk, NetworkRow, Readdress, Side
from maestoso.core.planning.isolated_test import routers
from tests import worlds

DB = worlds.WORKLOADS["db"]


def kept(**rows: object) -> Crosswalk:
    """A crosswalk whose rules keep addresses in tests, and live."""
    walk = worlds.crosswalk(**rows)
    stay = Readdress(action="keep")
    return replace(
        walk, address_rules=tuple(replace(rule, live=stay, test=stay) for rule in walk.address_rules)
    )


class Kept(unittest.TestCase):
    """Addresses of the source at the target."""

    def landed(self, walk: Crosswalk, side: Side) -> tuple[landing_resolve.Resolved, list[str]]:
        """The landing of one workload and what is found about it."""
        ground = Ground({"A": worlds.source(workloads=(DB,)), "B": worlds.target()})
        (one,) = landing_resolve.resolve((DB,), walk, ground, side)
        return one, [finding.code for finding in one.findings]

    def test_in_a_network_of_the_test_alone_they_are_right(self) -> None:
        one, found = self.landed(kept(), "test")
        (nic,) = one.landing.nics
        self.assertEqual((nic.isolated, nic.addresses), (True, DB.nics[0].addresses))
        self.assertEqual(found, [])

    def test_live_and_in_a_fixed_sandbox_they_are_not(self) -> None:
        self.assertEqual(self.landed(kept(), "live")[1], ["address-outside-prefix"])
        rows = (NetworkRow(source="a-net", live="b-net", sandbox="b-lab"),)
        self.assertIn("address-outside-prefix", self.landed(kept(networks=rows), "test")[1])

    def test_the_network_is_told_the_routers_that_its_copies_look_for(self) -> None:
        (nic,) = self.landed(kept(), "test")[0].landing.nics
        self.assertEqual(list(routers(nic)), ["10.1.0.1/24"])
        self.assertEqual(
            list(routers(replace(nic, gateways=("10.9.0.1",)))), [], "it is on no network of its own"
        )


if __name__ == "__main__":
    unittest.main()
