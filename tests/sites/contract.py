"""The contract of the site protocol, version 1: what every agent must do, whoever wrote it.

Run against an agent of your own with MAESTOSO_AGENT_URL, MAESTOSO_AGENT_TOKEN and MAESTOSO_AGENT_GROUP (a
group whose copies it holds), by ``python -m unittest tests.sites.test_contract``. It makes one sandbox
network and removes it again, and pins a point and lets it go.
"""

from __future__ import annotations

import asyncio
import uuid
from dataclasses import replace
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.landing import Landing, LandingNic
from maestoso.core.ports import SiteRefused, SiteUnintelligible
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.engine.clock import SystemClock
from maestoso.sites.client import HttpSite

PATIENCE_S = 30.0


class SiteContract:
    """Mixed into a test case that gives ``site`` and ``group``."""

    site: HttpSite
    group: str

    def operation(self, verb: str, subject: str, run: str = "", **args: Any) -> Operation:
        """An operation with a key of its own."""
        key = f"contract:{verb}:{uuid.uuid4()}"
        return Operation(key=key, run=run or key, verb=verb, subject=subject, args=args, pace=1000.0)

    async def settled(self, operation: Operation, fence: int = 1) -> OperationState:
        """Ask, then listen to the feed until it is settled."""
        cursor = (await self.site.changes(-1, 0)).cursor
        state = await self.site.put_operation(operation, fence)
        async with asyncio.timeout(PATIENCE_S):
            while not state.settled:
                feed = await self.site.changes(cursor, 5)
                cursor = feed.cursor
                state = next((s for s in feed.states if s.key == operation.key), state)
        return state

    async def test_it_says_what_it_speaks_and_can(self: Any) -> None:
        said = await self.site.capabilities()
        self.assertTrue(said["protocol"].startswith("1."))
        self.assertIn("prove-isolation", said["verbs"])

    async def test_the_inventory_has_the_agreed_shape(self: Any) -> None:
        inventory = await self.site.inventory()
        self.assertTrue(inventory.host_pools)
        self.assertGreaterEqual(inventory.limits.power, 1)

    async def test_points_come_oldest_first_and_belong_to_their_group(self: Any) -> None:
        points, changes = await self.site.points(self.group)
        self.assertEqual([p.at for p in points], sorted(p.at for p in points))
        self.assertEqual({p.group for p in points}, {self.group})
        self.assertEqual([c.at for c in changes], sorted(c.at for c in changes))
        newest = {state.group: state.newest for state in (await self.site.pulse()).groups}
        self.assertGreaterEqual(newest[self.group].at, points[-1].at)

    async def test_the_pulse_says_clock_inventory_and_copying(self: Any) -> None:
        pulse = await self.site.pulse()
        self.assertTrue(pulse.inventory)
        self.assertLess(abs((pulse.now - SystemClock().now()).total_seconds()), 60)
        state = next(state for state in pulse.groups if state.group == self.group)
        self.assertTrue(state.digest)
        self.assertLessEqual(state.seeded_bytes, state.seed_bytes)
        self.assertLessEqual(sum(state.failed.values()), state.cycles)
        self.assertIn(state.source, [link.source for link in pulse.links])

    async def test_it_says_which_services_answer(self: Any) -> None:
        inventory = await self.site.inventory()
        offered = {(one.name, service.name) for one in inventory.workloads for service in one.offers}
        names = [one.name for one in inventory.workloads]
        self.assertLessEqual(await self.site.answering([*names, "nobody"]), offered)
        self.assertEqual(await self.site.answering([]), frozenset())

    async def test_lags_and_change_rates_have_the_agreed_shape(self: Any) -> None:
        lags = await self.site.lags()
        self.assertGreater(lags.every_s, 0)
        self.assertTrue(all(lag >= 0 for lag in lags.groups[self.group]))
        for one in await self.site.change_rates():
            self.assertGreaterEqual(one.peak_bps, one.mean_bps)

    async def test_points_are_pinned_and_let_go(self: Any) -> None:
        points, _ = await self.site.points(self.group)
        for label in ("contract", ""):
            pin = self.operation("pin-point", self.group, point=points[-1].id, label=label)
            self.assertEqual((await self.settled(pin)).status, "done")
            held, _ = await self.site.points(self.group)
            self.assertEqual({p.id: p.label for p in held}[points[-1].id], label)

    async def test_an_operation_ends_and_the_feed_says_so(self: Any) -> None:
        name = f"contract-{uuid.uuid4().hex[:8]}"
        made = await self.settled(self.operation("make-sandbox", name, mark=name))
        self.assertEqual(made.status, "done")
        self.assertEqual(await self.site.remains(name), [f"sandbox {name}"])
        gone = await self.settled(self.operation("remove-sandbox", name))
        self.assertEqual(gone.status, "done")
        self.assertEqual(await self.site.remains(name), [])

    async def test_a_repeated_key_has_one_effect(self: Any) -> None:
        name = f"contract-{uuid.uuid4().hex[:8]}"
        operation = self.operation("make-sandbox", name, mark=name)
        first = await self.settled(operation)
        again = await self.site.put_operation(operation, 1)
        self.assertEqual(again, first)
        self.assertEqual(await self.site.operation(operation.key), first)
        entries = [e for e in await self.site.journal() if e["key"] == operation.key]
        self.assertEqual(len(entries), 1)
        await self.settled(self.operation("remove-sandbox", name))

    async def test_a_lower_fence_is_refused(self: Any) -> None:
        run = f"contract-{uuid.uuid4().hex[:8]}"
        await self.settled(self.operation("leak-check", run, run=run, mark=run), fence=5)
        with self.assertRaises(SiteRefused) as caught:
            await self.site.put_operation(self.operation("leak-check", run, run=run, mark=run), 4)
        self.assertEqual(caught.exception.code, "fence-too-low")

    async def test_failures_carry_a_code_and_a_reason(self: Any) -> None:
        state = await self.settled(self.operation("register", "no-such-copy", host_pool="x"))
        self.assertEqual(state.status, "failed")
        self.assertTrue(state.code and state.reason)

    async def test_what_it_does_not_know_is_refused_and_changes_nothing(self: Any) -> None:
        with self.assertRaises(SiteRefused) as caught:
            await self.site.put_operation(self.operation("format-disk", "x"), 1)
        self.assertEqual(caught.exception.code, "unknown-verb")
        self.assertIsNone(await self.site.operation("contract:never-asked"))
        with self.assertRaises(SiteRefused):
            await self.site.points("no-such-group")

    async def test_landings_are_held_shown_and_given_back(self: Any) -> None:
        has, name = await self.site.inventory(), f"contract-{uuid.uuid4().hex[:8]}"
        nic = LandingNic(
            nic="nic0", network=has.networks[0].name, isolated=False, mac="02:00:5e:00:53:01", dhcp=False,
            before=(), addresses=(),
        )  # fmt: skip
        landing = Landing(
            workload=name, side="live", host_pool=has.host_pools[0].name, cores=1, memory_mib=512, disks=(),
            nics=(nic,), name=name,
        )  # fmt: skip
        elsewhere = replace(landing, workload=f"{name}-x", host_pool="no-such-pool")
        before = (await self.site.pulse()).landings
        hold = self.operation("hold-landings", "landings", landings=to_data([landing, elsewhere]))
        state = await self.settled(hold)
        self.assertEqual((state.status, set(state.result["refused"])), ("done", {elsewhere.workload}))
        self.assertTrue(state.result["refused"][elsewhere.workload])
        self.assertNotEqual((await self.site.pulse()).landings, before)
        self.assertIn(landing, await self.site.landings())
        release = self.operation("release-landings", "landings", workloads=[name])
        self.assertEqual((await self.settled(release)).status, "done")
        self.assertNotIn(name, {one.workload for one in await self.site.landings()})

    async def test_adapters_of_a_run_without_copies_are_none(self: Any) -> None:
        state = await self.settled(self.operation("read-adapters", "copies", mark="contract-nothing"))
        self.assertEqual((state.status, state.result), ("done", {"adapters": {}}))

    async def test_a_wrong_token_is_refused(self: Any) -> None:
        stranger = HttpSite(self.url, "wrong", transport=self.transport)
        with self.assertRaises(SiteUnintelligible):
            await stranger.capabilities()
        await stranger.close()

    async def test_an_idle_feed_waits_and_then_answers_with_nothing(self: Any) -> None:
        before = await self.site.changes(-1, 0)
        feed = await self.site.changes(before.cursor, 0.05)
        self.assertEqual((feed.states, feed.cursor), ([], before.cursor))

    async def test_its_epoch_is_the_same_wherever_it_says_it(self: Any) -> None:
        said = (await self.site.capabilities())["epoch"]
        self.assertEqual(said, (await self.site.pulse()).epoch)
        self.assertEqual(said, (await self.site.changes(-1, 0)).epoch)
