"""What a practice site does about landings: keeps them, gives leases, says what adapters have."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from ipaddress import ip_interface
from pathlib import Path
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.landing.resolve import resolve
from maestoso.core.model.crosswalk import NicEntry, NicSide
from maestoso.core.model.landing import Landing
from maestoso.core.runs.state import RunState
from maestoso.practice.store import Store
from maestoso.sites.contract import Submission
from tests import worlds
from tests.practice.test_rehearsal import played, tidewell
from tests.practice.test_world import Site


def landing(name: str, **changes: object) -> Landing:
    """The live landing of a workload of the small world."""
    walk = worlds.crosswalk(**changes)
    return resolve((worlds.WORKLOADS[name],), walk, worlds.ground(), "live")[0].landing


def read(state: RunState, workload: str) -> list[dict[str, Any]]:
    """What the site said of the adapters of a copy."""
    found: list[dict[str, Any]] = state.steps["read-adapters:copies"].result["adapters"][workload]
    return found


class Held(unittest.TestCase):
    """Reservations for what may arrive."""

    def hold(self, site: Site, *landings: Landing) -> dict[str, str]:
        refused: dict[str, str] = site.do("hold-landings", "landings", landings=to_data(landings)).result[
            "refused"
        ]
        return refused

    def test_kept_replaced_and_given_back(self) -> None:
        site = Site()
        self.assertEqual(self.hold(site, landing("db"), landing("app")), {})
        self.assertEqual(set(site.world.held), {"db", "app"})
        before = len(site.world.journal)
        self.hold(site, landing("db"))
        self.assertEqual(len(site.world.journal), before)  # the same again is no effect
        smaller = replace(landing("db"), cores=1)
        self.hold(site, smaller)
        self.assertEqual(site.world.held["db"], smaller)
        site.do("release-landings", "landings", workloads=["db", "nobody"])
        self.assertEqual(set(site.world.held), {"app"})

    def test_what_cannot_be_is_refused_one_by_one(self) -> None:
        site = Site()
        db = landing("db")
        bad = [
            replace(landing("app"), host_pool="x"),
            replace(landing("web"), disks=(replace(db.disks[0], storage_pool="x"),)),
            replace(landing("queue"), nics=(replace(db.nics[0], network="x"),)),
            replace(landing("app"), workload="same", nics=db.nics),
        ]
        refused = self.hold(site, db, *bad)
        self.assertEqual(set(refused), {"app", "web", "queue", "same"})
        self.assertIn("10.2.0.11 on b-net is held for db", refused["same"])
        self.assertEqual(set(site.world.held), {"db"})
        self.assertEqual(site.do("hold-landings", "landings", landings=[{}]).code, "bad-landing")

    def test_what_is_held_is_known_after_a_restart(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            store = Store(Path(folder) / "b.sqlite", worlds.NOW - timedelta(days=1))
            world, at = store.replay(worlds.spec()), worlds.NOW.timestamp()
            args = {"landings": to_data([landing("db"), landing("app")])}
            for number, (verb, given) in enumerate(
                (("hold-landings", args), ("release-landings", {"workloads": ["app"]}))
            ):
                submission = Submission(verb=verb, subject="landings", run="care", fence=1, args=given)
                store.submitted(at + number, f"k{number}", submission)
                world.submit(f"k{number}", submission, at + number)
            store.close()
            again = Store(Path(folder) / "b.sqlite", worlds.NOW).replay(worlds.spec())
            for one in (world, again):
                one.advance(at + 60)
            self.assertEqual(set(again.held), {"db"})
            self.assertEqual((again.held, again.held_at), (world.held, world.held_at))


class Leases(unittest.TestCase):
    """Who asks DHCP is given what is free, reserved or held."""

    RANGE = ("10.2.0.50-10.2.0.51",)

    def lease(self, reserve: list[str] | None = None, dhcp: bool = True, **network: Any) -> list[str]:
        """What db gets on b-net."""
        net = replace(worlds.target().networks[0], dhcp=dhcp, dhcp_ranges=self.RANGE, **network)
        site = Site(inventory=worlds.target(networks=(net, worlds.target().networks[1])))
        site.copy(on=False)
        nic = {"nic": "nic0", "network": "b-net", "mac": "02:00:00:00:00:07"}
        site.do("attach-nics", "db--t1", nics=[nic | ({"reserve": reserve} if reserve else {})])
        site.do("set-addresses", "db--t1", nics=[{"nic": "nic0", "addresses": [], "dhcp": True}])
        site.do("power-on", "db--t1")
        (has,) = site.do("read-adapters", "copies", mark="t1").result["adapters"]["db"]
        self.assertTrue(has["dhcp"])
        found: list[str] = has["addresses"]
        return found

    def test_the_first_that_is_free(self) -> None:
        self.assertEqual(self.lease(), ["10.2.0.50/24"])
        self.assertEqual(self.lease(reservations={"02:00:00:00:00:99": "10.2.0.50"}), ["10.2.0.51/24"])

    def test_what_is_reserved_for_its_mac_or_for_the_run(self) -> None:
        self.assertEqual(self.lease(reservations={"02:00:00:00:00:07": "10.2.0.200"}), ["10.2.0.200/24"])
        self.assertEqual(self.lease(reserve=["10.2.0.77/24"]), ["10.2.0.77/24"])

    def test_nobody_answers_or_has_anything_left(self) -> None:
        self.assertEqual(self.lease(dhcp=False), [])
        taken = {f"02:00:00:00:00:9{n}": f"10.2.0.5{n}" for n in (0, 1)}
        self.assertEqual(self.lease(reservations=taken), [])


class WhatAdaptersHave(unittest.TestCase):
    """In a test run of the demo, as the practice site itself reports."""

    def test_the_awkward_cases_of_booking(self) -> None:
        state = played(*tidewell("BOOK")).state
        both = read(state, "api-01")[0]
        self.assertEqual(both["addresses"], ["172.18.4.17/24", "2001:db8:18:4::17/64"])
        two = read(state, "pay-relay-01")
        self.assertEqual([nic["addresses"] for nic in two], [["172.18.4.31/24"], ["172.18.250.31/24"]])
        self.assertEqual([nic["gateways"] for nic in two], [["172.18.4.1"], ["172.18.250.1"]])
        self.assertTrue(two[0]["network"].startswith("hil-app.sandbox"))
        disks = next(one for one in state.inputs.landings if one.workload == "db-book-01").disks
        self.assertEqual([disk.storage_pool for disk in disks], ["hil-a", "hil-a", "hil-b"])

    def test_the_awkward_cases_of_fleet_and_everything(self) -> None:
        fleet = played(*tidewell("FLEET")).state
        kept = read(fleet, "timetable-01")[0]
        self.assertEqual((kept["addresses"], kept["network"]), (["10.20.8.11/24"], "hil-lab"))
        untold = read(fleet, "crew-01")[0]  # no guest agent: it still has what it had
        self.assertEqual(untold["addresses"], ["10.20.4.44/24"])
        everything = played(*tidewell("ALL")).state
        reserved = read(everything, "print-01")[0]
        self.assertEqual((reserved["dhcp"], reserved["addresses"]), (True, ["172.18.10.60/24"]))
        self.assertEqual(read(everything, "phone-01")[0]["addresses"], ["172.18.10.201/24"])

    def test_a_lease_comes_from_the_range(self) -> None:
        state = played(*tidewell("REPT")).state
        self.assertEqual(read(state, "ware-01")[0]["addresses"], ["192.168.40.100/24"])

    def test_every_plan_lands_as_planned_but_for_the_one_without_agent(self) -> None:
        differ = set()
        for code in ("HARB", "BOOK", "FLEET", "ALL"):
            state = played(*tidewell(code)).state
            for one in state.inputs.landings:
                has = {nic["nic"]: nic["addresses"] for nic in read(state, one.workload)}
                if any([str(a) for a in nic.addresses] != has[nic.nic] for nic in one.nics):
                    differ.add(one.workload)
        self.assertEqual(differ, {"crew-01"})

    def test_a_disconnected_adapter_is_attached_nowhere(self) -> None:
        entry = NicEntry(workload="db", nic="nic0", test=NicSide(disconnected=True))
        ctx = worlds.context(crosswalk=worlds.crosswalk(table=(entry,)))
        state = played(worlds.inputs(ctx), worlds.world()).state
        (nic,) = read(state, "db")
        self.assertEqual((nic["connected"], nic["network"]), (False, ""))

    def test_another_guest_keeps_its_address_until_it_is_told(self) -> None:
        site = Site()
        site.copy(on=False)
        copy = site.do("read-adapters", "copies", mark="t1").result["adapters"]["db"]
        self.assertEqual(copy[0]["addresses"], [str(ip_interface("10.1.0.11/24"))])
