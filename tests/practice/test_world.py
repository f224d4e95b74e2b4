"""The practice world: what operations do, what it remembers, and how it misbehaves."""

from __future__ import annotations

import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

from maestoso.core.errors import BadValue, NotFound
from maestoso.core.model.estate import HostPool
from maestoso.core.ports import SiteRefused
from maestoso.core.runs.operations import OperationState
from maestoso.practice.durations import boot_s, operation_s
from maestoso.practice.scenario import Scenario
from maestoso.practice.spec import Fault
from maestoso.practice.store import Store
from maestoso.practice.world import World
from maestoso.sites.contract import Submission
from tests import worlds

TIDEWELL = Path(__file__).resolve().parents[2] / "demo" / "tidewell"
T0 = worlds.NOW.timestamp()


class Site:
    """A world, asked one thing after the other."""

    def __init__(self, **changes: Any) -> None:
        self.world = worlds.world(**changes)
        self.asked = 0

    def submit(self, verb: str, subject: str, fence: int = 1, **args: Any) -> str:
        """Ask for an operation; returns its key."""
        self.asked += 1
        key = f"r1:{verb}:{subject}:{self.asked}"
        self.world.submit(
            key, Submission(verb=verb, subject=subject, run="r1", fence=fence, args=args), self.world.now
        )
        return key

    def wait(self, key: str) -> OperationState:
        """Let time pass until an operation is settled."""
        while True:
            state = self.world.operation(key)
            assert state is not None
            due = self.world.next_due()
            if state.settled or due is None:
                return state
            self.world.advance(due)

    def do(self, verb: str, subject: str, **args: Any) -> OperationState:
        """Ask and wait."""
        return self.wait(self.submit(verb, subject, **args))

    def copy(self, name: str = "db--t1", on: bool = True) -> None:
        """A registered copy on a sandbox of its own, with power."""
        workload = name.split("--")[0]
        if "box" not in self.world.sandboxes:
            self.do("make-sandbox", "box", mark="t1")
        self.do("clone-point", name, workload=workload, group="shop", point=self.point(), mark="t1")
        self.do("register", name, host_pool="b-hosts")
        self.do("set-size", name, cores=2, memory_mib=4096)
        self.do("attach-nics", name, nics=[{"nic": "nic0", "network": "box", "mac": "02:00:00:00:00:01"}])
        if on:
            self.do("power-on", name)

    def point(self) -> str:
        """A point that is held."""
        return self.world.points("shop")[-1].id


class Operations(unittest.TestCase):
    """Each verb has its effect, or says why not."""

    def test_a_copy_comes_up_and_answers(self) -> None:
        site = Site()
        site.copy()
        self.assertEqual(site.do("await-heartbeat", "db--t1", timeout_s=600).status, "done")
        probe = site.do("probe-service", "db--t1", service="x", protocol="tcp", port=1011, timeout_s=60)
        self.assertEqual(probe.result, {"answered": "tcp 1011"})

    def test_refusals_have_a_code_and_a_sentence(self) -> None:
        site = Site()
        site.copy(on=False)
        pools = (HostPool(name="b-hosts", hosts=1, cores=8, memory_mib=8192, used_memory_mib=6000),)
        full = Site(inventory=worlds.target(host_pools=pools))
        full.do("clone-point", "db--t1", workload="db", group="shop", point=full.point(), mark="t1")
        full.do("register", "db--t1", host_pool="b-hosts")
        cases = [
            (site.do("sync", "x", group="nope"), "no-such-group"),
            (site.do("make-sandbox", "box", mark="t9"), "network-exists"),
            (site.do("remove-sandbox", "box"), "network-in-use"),
            (site.do("clone-point", "x", workload="zz", group="shop", point="shop@1"), "no-such-replica"),
            (site.do("clone-point", "x", workload="db", group="shop", point="shop@60"), "point-gone"),
            (site.do("clone-point", "x", workload="db", group="shop", point="shop@soon"), "point-gone"),
            (
                site.do("clone-point", "db--t1", workload="db", group="shop", point=site.point()),
                "copy-exists",
            ),
            (site.do("register", "db--t1", host_pool="nowhere"), "no-such-pool"),
            (site.do("register", "ghost", host_pool="b-hosts"), "no-such-copy"),
            (full.do("set-size", "db--t1", cores=1, memory_mib=4096), "no-room"),
            (
                site.do("attach-nics", "db--t1", nics=[{"nic": "n", "network": "q", "mac": "m"}]),
                "no-such-network",
            ),
            (site.do("set-addresses", "db--t1", nics=[{"nic": "n9", "addresses": []}]), "no-such-nic"),
            (site.do("await-heartbeat", "db--t1", timeout_s=5), "powered-off"),
            (site.do("probe-service", "db--t1", port=1011, timeout_s=5), "powered-off"),
        ]
        site.do("power-on", "db--t1")
        cases += [
            (site.do("power-on", "db--t1"), "powered-on"),
            (site.do("unregister", "db--t1"), "powered-on"),
            (site.do("discard-clone", "db--t1"), "registered"),
            (site.do("probe-service", "db--t1", port=9, timeout_s=900), "no-answer"),
            (site.do("leak-check", "t1", mark="t1"), "remains"),
        ]
        for state, code in cases:
            with self.subTest(code):
                self.assertEqual((state.status, state.code), ("failed", code))
                self.assertTrue(state.reason.endswith("."), state.reason)

    def test_without_guest_agent_no_addresses_and_no_heartbeat(self) -> None:
        mute = replace(worlds.WORKLOADS["db"], guest_agent=False)
        site = Site(copied=replace(worlds.spec().copied, workloads=(mute,)))
        site.copy()
        self.assertEqual(site.do("set-addresses", "db--t1", nics=[]).code, "no-guest-agent")
        self.assertEqual(site.do("await-heartbeat", "db--t1", timeout_s=600).code, "no-guest-agent")

    def test_losing_power_ends_those_who_wait_for_the_copy(self) -> None:
        site = Site()
        site.world.add_fault(Fault(verb="power-on", effect="boot-hangs"), site.world.now)
        site.copy()
        waiting = site.submit("await-heartbeat", "db--t1", timeout_s=100_000)
        site.do("power-off", "db--t1")
        state = site.wait(waiting)
        self.assertEqual(state.code, "powered-off")
        self.assertLess(site.world.now, T0 + 3600)

    def test_a_machine_that_is_killed_is_down_and_stays_so(self) -> None:
        site = Site()
        site.copy()
        self.assertEqual(site.do("kill-machine", "db--t1").status, "done")
        self.assertEqual(site.do("await-heartbeat", "db--t1", timeout_s=5).code, "powered-off")
        self.assertEqual(site.do("kill-machine", "db--t1").code, "powered-off")
        self.assertEqual(site.do("kill-machine", "ghost").code, "no-such-copy")

    def test_cleanup_leaves_nothing_and_taking_away_nothing_is_no_effect(self) -> None:
        site = Site()
        site.copy()
        for verb in ("power-off", "unregister", "discard-clone"):
            self.assertEqual(site.do(verb, "db--t1").status, "done")
        self.assertEqual(site.do("remove-sandbox", "box").status, "done")
        self.assertEqual(site.do("leak-check", "t1", mark="t1").result, {"remains": []})
        before = len(site.world.journal)
        for verb in ("power-off", "unregister", "discard-clone"):
            self.assertEqual(site.do(verb, "db--t1").status, "done")
        site.do("remove-sandbox", "box")
        self.assertEqual(len(site.world.journal), before)

    def test_production_is_in_no_effect(self) -> None:
        site = Site()
        site.copy()
        self.assertEqual(site.world.inventory, worlds.target())
        self.assertFalse([e for e in site.world.journal if e.subject in worlds.NAMES])

    def test_a_sync_leaves_a_point_that_can_be_cloned(self) -> None:
        site = Site()
        point = site.do("sync", "shop", group="shop").result["point"]
        made = site.do("clone-point", "db--t1", workload="db", group="shop", point=point, mark="t1")
        self.assertEqual(made.status, "done")
        self.assertIn(point, [p.id for p in site.world.points("shop")])
        with self.assertRaises(NotFound):
            site.world.points("nope")


class Isolation(unittest.TestCase):
    """Isolation is proved by following routes."""

    def test_a_sandbox_without_routes_is_isolated(self) -> None:
        site = Site()
        site.do("make-sandbox", "box", mark="t1")
        self.assertEqual(site.do("prove-isolation", "n", mark="t1", networks=["box", "b-lab"]).status, "done")

    def test_a_leak_is_named_hop_by_hop(self) -> None:
        site = Site()
        site.world.add_fault(Fault(verb="make-sandbox", effect="leak"), site.world.now)
        site.do("make-sandbox", "box", mark="t1")
        state = site.do("prove-isolation", "n", mark="t1", networks=["box"])
        self.assertEqual(state.code, "not-isolated")
        self.assertIn("from box, by a route to b-net", state.reason)

    def test_a_copy_on_a_production_network_is_found_even_if_nobody_names_it(self) -> None:
        site = Site()
        site.copy(on=False)
        site.do("attach-nics", "db--t1", nics=[{"nic": "nic0", "network": "b-net", "mac": "m"}])
        self.assertEqual(site.do("prove-isolation", "c", mark="t1", networks=["box"]).code, "not-isolated")


class Memory(unittest.TestCase):
    """Keys, fences, the feed, the journal, and a restart."""

    def test_a_repeated_key_is_answered_and_not_done_again(self) -> None:
        site = Site()
        submission = Submission(verb="make-sandbox", subject="box", run="r1", fence=1, args={"mark": "t1"})
        for _ in range(3):
            site.world.submit("k", submission, site.world.now)
            site.world.advance(site.world.now + 100)
        self.assertEqual(len(site.world.journal), 1)
        self.assertEqual(site.world.submit("k", submission, site.world.now).status, "done")

    def test_a_lower_fence_is_refused_also_for_a_known_key(self) -> None:
        site = Site()
        key = site.submit("make-sandbox", "box", fence=3, mark="t1")
        with self.assertRaises(SiteRefused) as caught:
            site.submit("make-sandbox", "other", fence=2, mark="t1")
        self.assertEqual(caught.exception.code, "fence-too-low")
        late = Submission(verb="make-sandbox", subject="box", run="r1", fence=2)
        with self.assertRaises(SiteRefused):
            site.world.submit(key, late, site.world.now)

    def test_an_unknown_verb_is_refused(self) -> None:
        with self.assertRaises(SiteRefused) as caught:
            Site().submit("format-disk", "x")
        self.assertEqual(caught.exception.code, "unknown-verb")

    def test_the_feed_tells_every_change_once_behind_a_cursor(self) -> None:
        site = Site()
        key = site.submit("make-sandbox", "box", mark="t1")
        states, cursor = site.world.changes(0)
        self.assertEqual([(s.key, s.status) for s in states], [(key, "running")])
        site.wait(key)
        states, after = site.world.changes(cursor)
        self.assertEqual([(s.key, s.status) for s in states], [(key, "done")])
        self.assertEqual(site.world.changes(after), ([], after))

    def test_the_world_is_the_same_after_a_restart(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "b.sqlite"
            store = Store(file, worlds.NOW - timedelta(days=1))
            world = store.replay(worlds.spec())
            at = T0
            fault = Fault(verb="clone-point", effect="fail", times=1)
            store.write(at, "fault", {"verb": "clone-point", "effect": "fail", "times": 1})
            world.add_fault(fault, at)
            for number, verb in enumerate(("make-sandbox", "clone-point", "clone-point")):
                submission = Submission(
                    verb=verb,
                    subject=f"db--t{number}",
                    run="r1",
                    fence=1,
                    args={"workload": "db", "group": "shop", "point": world.points("shop")[-1].id},
                )
                store.submitted(at, f"k{number}", submission)
                world.submit(f"k{number}", submission, at)
                at += 2.5
            store.close()
            again = Store(file, worlds.NOW).replay(worlds.spec())
            for one in (world, again):
                one.advance(at + 60)
            self.assertEqual(again.created_at, world.created_at)
            self.assertEqual(again.journal, world.journal)
            self.assertEqual(again.changes(0), world.changes(0))
            self.assertEqual(again.operation("k1"), world.operation("k1"))
            self.assertEqual(world.operation("k1").code, "practice-fault")  # type: ignore[union-attr]


class Faults(unittest.TestCase):
    """Misbehaviour on purpose."""

    def test_a_fault_strikes_as_often_as_it_says_and_only_what_it_matches(self) -> None:
        site = Site()
        site.world.add_fault(Fault(verb="make-sandbox", subject="a*", effect="fail", times=1), site.world.now)
        self.assertEqual(site.do("make-sandbox", "b1", mark="t").status, "done")
        self.assertEqual(site.do("make-sandbox", "a1", mark="t").code, "practice-fault")
        self.assertEqual(site.do("make-sandbox", "a1", mark="t").status, "done")

    def test_what_hangs_ends_when_all_is_put_right(self) -> None:
        site = Site()
        site.world.add_fault(Fault(verb="make-sandbox", effect="hang"), site.world.now)
        key = site.submit("make-sandbox", "box", mark="t")
        self.assertIsNone(site.world.next_due())
        site.world.advance(site.world.now + 10_000)
        self.assertEqual(site.world.operation(key).status, "running")  # type: ignore[union-attr]
        site.world.clear_faults(site.world.now)
        self.assertEqual(site.wait(key).status, "done")

    def test_slow_takes_its_factor_as_long(self) -> None:
        usual, slow = Site(), Site()
        slow.world.add_fault(Fault(verb="make-sandbox", effect="slow", factor=10), slow.world.now)
        for site in (usual, slow):
            site.do("make-sandbox", "box", mark="t")
        self.assertAlmostEqual((slow.world.now - T0) / (usual.world.now - T0), 10.0, places=6)

    def test_a_boot_that_hangs_runs_into_its_time_limit(self) -> None:
        site = Site()
        site.world.add_fault(Fault(verb="power-on", effect="boot-hangs"), site.world.now)
        site.copy()
        state = site.do("await-heartbeat", "db--t1", timeout_s=300)
        self.assertEqual(state.code, "ready-timeout")
        probe = site.do("probe-service", "db--t1", port=1011, timeout_s=60)
        self.assertEqual(probe.code, "no-answer")


class Durations(unittest.TestCase):
    """Drawn from the key alone."""

    def test_the_same_key_takes_the_same_time_and_another_does_not(self) -> None:
        self.assertEqual(operation_s(1, "register", "k"), operation_s(1, "register", "k"))
        self.assertNotEqual(operation_s(1, "register", "k"), operation_s(1, "register", "l"))

    def test_large_machines_boot_longer(self) -> None:
        small, large = (worlds.workload("x", 9, memory_mib=mib) for mib in (2048, 262144))
        self.assertGreater(boot_s(1, large, "k"), 2 * boot_s(1, small, "k"))


class TheScenario(unittest.TestCase):
    """The demo files say what they should."""

    def setUp(self) -> None:
        self.scenario = Scenario(TIDEWELL)

    def test_it_has_what_a_practitioner_would_look_for(self) -> None:
        machines = self.scenario.workloads
        self.assertTrue(35 <= len(machines) <= 45)
        pools = {disk.storage_pool for disk in machines["db-book-01"].disks}
        self.assertEqual((len(machines["db-book-01"].disks), len(pools)), (3, 2))
        self.assertTrue([w for w in machines.values() if len(w.nics) == 2])
        self.assertTrue([w for w in machines.values() if any(n.dhcp for n in w.nics)])
        self.assertTrue([w for w in machines.values() if any(len(n.addresses) == 2 for n in w.nics)])
        self.assertTrue([w for w in machines.values() if not w.guest_agent])
        self.assertTrue([w for w in machines.values() if w.needs_key])
        hilltop = self.scenario.spec("HIL", worlds.NOW)
        self.assertTrue([p for p in hilltop.inventory.host_pools if p.standby_hosts])
        self.assertTrue([n for n in hilltop.inventory.networks if n.stretched_with == "QUA/qua-ops"])
        self.assertTrue([r for r in hilltop.replicas if r.profile.failed_share == 0.2])

    def test_the_burst_is_in_the_night_before_the_site_was_made(self) -> None:
        for hour in (1, 15):
            made = worlds.NOW.replace(hour=hour)
            hilltop = self.scenario.spec("HIL", made)
            (burst,) = next(r for r in hilltop.replicas if r.group.code == "booking-db").profile.bursts
            self.assertTrue(timedelta(0) < made - burst.start < timedelta(days=1))

    def test_what_is_not_there_is_said(self) -> None:
        with self.assertRaises(NotFound):
            self.scenario.spec("XYZ", worlds.NOW)
        with self.assertRaises(NotFound):
            Scenario(TIDEWELL / "nowhere")
        self.assertEqual(self.scenario.data("nothing"), {})

    def test_a_workload_described_twice_is_refused(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            for name in ("sites", "workloads"):
                text = (TIDEWELL / f"{name}.yaml").read_text(encoding="utf-8")
                if name == "workloads":
                    text += text[text.index("  - {name: dir-01") : text.index("  - {name: dir-02")]
                (Path(folder) / f"{name}.yaml").write_text(text, encoding="utf-8")
            with self.assertRaises(BadValue):
                Scenario(Path(folder))

    def test_every_site_has_what_the_scenario_gives_it(self) -> None:
        groups = {group.code: group for group in self.scenario.groups()}
        for code in self.scenario.site_codes():
            with self.subTest(code):
                world = World(self.scenario.spec(code, worlds.NOW), worlds.NOW)
                own = {name for name, site in self.scenario.site_of.items() if site == code}
                self.assertEqual({workload.name for workload in world.inventory.workloads}, own)
                copied = {group for group, value in groups.items() if value.target == code}
                self.assertEqual(set(world.replication.copying), copied)
                self.assertTrue(all(world.points(group) for group in copied))


if __name__ == "__main__":
    unittest.main()
