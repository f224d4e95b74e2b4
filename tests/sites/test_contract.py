"""What client and practice site say to each other, and the document of the protocol."""

from __future__ import annotations

import asyncio
import json
import unittest
import uuid
from dataclasses import replace
from pathlib import Path
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.landing import Landing, LandingNic
from maestoso.core.ports import SiteRefused, SiteUnintelligible
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.engine.clock import SystemClock
from maestoso.practice import verbs as practised
from maestoso.sites.client import HttpSite
from maestoso.sites.contract import openapi
from maestoso.sites.reference import page
from maestoso.sites.verbs import REFUSALS, VERBS
from tests.practice_site import URL, LocalSite

PATIENCE_S = 30.0
DOCS = Path(__file__).resolve().parents[2] / "docs"


class ThePracticeSite(unittest.IsolatedAsyncioTestCase):
    """The client that Maestoso has, and the agent that ships with it."""

    async def asyncSetUp(self) -> None:
        self.local = LocalSite()
        self.addAsyncCleanup(self.local.close)
        self.group, self.site = "shop", self.local.client

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

    async def test_it_says_what_it_speaks_and_can(self) -> None:
        said = await self.site.capabilities()
        self.assertTrue(said["protocol"].startswith("1."))
        self.assertIn("prove-isolation", said["verbs"])

    async def test_the_inventory_has_the_agreed_shape(self) -> None:
        inventory = await self.site.inventory()
        self.assertTrue(inventory.host_pools)
        self.assertGreaterEqual(inventory.limits.power, 1)

    async def test_points_come_oldest_first_and_belong_to_their_group(self) -> None:
        points, changes = await self.site.points(self.group)
        self.assertEqual([p.at for p in points], sorted(p.at for p in points))
        self.assertEqual({p.group for p in points}, {self.group})
        self.assertEqual([c.at for c in changes], sorted(c.at for c in changes))
        newest = {state.group: state.newest for state in (await self.site.pulse()).groups}
        self.assertGreaterEqual(newest[self.group].at, points[-1].at)

    async def test_the_pulse_says_clock_inventory_and_copying(self) -> None:
        pulse = await self.site.pulse()
        self.assertTrue(pulse.inventory)
        self.assertLess(abs((pulse.now - SystemClock().now()).total_seconds()), 60)
        state = next(state for state in pulse.groups if state.group == self.group)
        self.assertTrue(state.digest)
        self.assertLessEqual(state.seeded_bytes, state.seed_bytes)
        self.assertLessEqual(sum(state.failed.values()), state.cycles)
        self.assertIn(state.source, [link.source for link in pulse.links])

    async def test_it_says_which_services_answer(self) -> None:
        inventory = await self.site.inventory()
        offered = {(one.name, service.name) for one in inventory.workloads for service in one.offers}
        names = [one.name for one in inventory.workloads]
        self.assertLessEqual(await self.site.answering([*names, "nobody"]), offered)
        self.assertEqual(await self.site.answering([]), frozenset())

    async def test_lags_and_change_rates_have_the_agreed_shape(self) -> None:
        lags = await self.site.lags()
        self.assertGreater(lags.every_s, 0)
        self.assertTrue(all(lag >= 0 for lag in lags.groups[self.group]))
        for one in await self.site.change_rates():
            self.assertGreaterEqual(one.peak_bps, one.mean_bps)

    async def test_points_are_pinned_and_let_go(self) -> None:
        points, _ = await self.site.points(self.group)
        for label in ("contract", ""):
            pin = self.operation("pin-point", self.group, point=points[-1].id, label=label)
            self.assertEqual((await self.settled(pin)).status, "done")
            held, _ = await self.site.points(self.group)
            self.assertEqual({p.id: p.label for p in held}[points[-1].id], label)

    async def test_an_operation_ends_and_the_feed_says_so(self) -> None:
        name = f"contract-{uuid.uuid4().hex[:8]}"
        made = await self.settled(self.operation("make-sandbox", name, mark=name))
        self.assertEqual(made.status, "done")
        self.assertEqual(await self.site.remains(name), [f"sandbox {name}"])
        gone = await self.settled(self.operation("remove-sandbox", name))
        self.assertEqual(gone.status, "done")
        self.assertEqual(await self.site.remains(name), [])

    async def test_a_repeated_key_has_one_effect(self) -> None:
        name = f"contract-{uuid.uuid4().hex[:8]}"
        operation = self.operation("make-sandbox", name, mark=name)
        first = await self.settled(operation)
        again = await self.site.put_operation(operation, 1)
        self.assertEqual(again, first)
        self.assertEqual(await self.site.operation(operation.key), first)
        entries = [e for e in await self.site.journal() if e["key"] == operation.key]
        self.assertEqual(len(entries), 1)
        await self.settled(self.operation("remove-sandbox", name))

    async def test_a_lower_fence_is_refused(self) -> None:
        run = f"contract-{uuid.uuid4().hex[:8]}"
        await self.settled(self.operation("leak-check", run, run=run, mark=run), fence=5)
        with self.assertRaises(SiteRefused) as caught:
            await self.site.put_operation(self.operation("leak-check", run, run=run, mark=run), 4)
        self.assertEqual(caught.exception.code, "fence-too-low")

    async def test_failures_carry_a_code_and_a_reason(self) -> None:
        state = await self.settled(self.operation("register", "no-such-copy", host_pool="x"))
        self.assertEqual(state.status, "failed")
        self.assertTrue(state.code and state.reason)

    async def test_what_it_does_not_know_is_refused_and_changes_nothing(self) -> None:
        with self.assertRaises(SiteRefused) as caught:
            await self.site.put_operation(self.operation("format-disk", "x"), 1)
        self.assertEqual(caught.exception.code, "unknown-verb")
        self.assertIsNone(await self.site.operation("contract:never-asked"))
        with self.assertRaises(SiteRefused):
            await self.site.points("no-such-group")

    async def test_landings_are_held_shown_and_given_back(self) -> None:
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

    async def test_adapters_of_a_run_without_copies_are_none(self) -> None:
        state = await self.settled(self.operation("read-adapters", "copies", mark="contract-nothing"))
        self.assertEqual((state.status, state.result), ("done", {"adapters": {}, "doors": []}))

    async def test_a_wrong_token_is_refused(self) -> None:
        stranger = HttpSite(URL, "wrong", transport=self.local.transport)
        with self.assertRaises(SiteUnintelligible):
            await stranger.capabilities()
        await stranger.close()

    async def test_an_idle_feed_waits_and_then_answers_with_nothing(self) -> None:
        before = await self.site.changes(-1, 0)
        feed = await self.site.changes(before.cursor, 0.05)
        self.assertEqual((feed.states, feed.cursor), ([], before.cursor))

    async def test_its_epoch_is_the_same_wherever_it_says_it(self) -> None:
        said = (await self.site.capabilities())["epoch"]
        self.assertEqual(said, (await self.site.pulse()).epoch)
        self.assertEqual(said, (await self.site.changes(-1, 0)).epoch)


class TheDocument(unittest.TestCase):
    """The document of the protocol is what client and practice site speak."""

    def test_the_committed_document_is_the_one_that_would_be_made(self) -> None:
        file = DOCS.parent / "src" / "maestoso" / "agent_kit" / "site-protocol.openapi.json"
        self.assertEqual(json.loads(file.read_text(encoding="utf-8")), json.loads(json.dumps(openapi())))

    def test_the_page_of_all_verbs_is_made_from_it(self) -> None:
        self.assertEqual((DOCS / "site-verbs.md").read_text(encoding="utf-8"), page())

    def test_a_practice_site_has_every_verb_and_no_other(self) -> None:
        self.assertEqual(set(practised.VERBS), set(VERBS))

    def test_every_code_of_a_refusal_says_something(self) -> None:
        of_verbs = {code for verb in VERBS.values() for code in verb.refusals}
        self.assertLessEqual(of_verbs, set(REFUSALS))

    def test_objects_are_open_and_only_what_has_no_default_is_required(self) -> None:
        shapes = openapi()["components"]["schemas"]
        self.assertTrue(all("additionalProperties" not in shape for shape in shapes.values()))
        self.assertEqual(shapes["Fenced"]["required"], ["was_running"])
        self.assertEqual(
            shapes["Capabilities"]["required"], ["protocol", "agent", "site", "practice", "verbs"]
        )


class BadRequests(unittest.IsolatedAsyncioTestCase):
    """Whatever is sent, the practice site answers with a problem and stays as it was."""

    async def asyncSetUp(self) -> None:
        self.local = LocalSite()
        self.addAsyncCleanup(self.local.close)

    async def problem(self, method: str, path: str, **rest: object) -> tuple[int, str]:
        http = self.local.client._http
        answer = await http.request(method, path, **rest)  # type: ignore[arg-type]
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        return answer.status_code, answer.json()["code"]

    async def test_each_is_refused_with_its_code(self) -> None:
        good = {"verb": "make-sandbox", "subject": "x", "run": "r", "fence": 1, "args": {"mark": "m"}}
        cases = [
            ("PUT", "/operations/k", {"content": b"{not json"}, 400),
            ("PUT", "/operations/k", {"content": b"[" * 100_000}, 400),
            ("PUT", "/operations/k", {"json": []}, 400),
            ("PUT", "/operations/k", {"json": {**good, "fence": "one"}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "pace": 0}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "pace": -1}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "args": {}}}, 400),
            ("PUT", "/operations/k", {"json": {**good, "args": {"mark": 1}}}, 400),
            ("PUT", "/operations/k", {"content": b"x" * 1_000_001}, 400),
            ("GET", "/operations?after=x", {}, 400),
            ("GET", "/operations?after=0&wait=long", {}, 400),
            ("GET", "/journal?after=x", {}, 400),
            ("POST", "/practice/faults", {"json": {"verb": "x", "effect": "explode"}}, 400),
            ("GET", "/operations/never", {}, 404),
            ("GET", "/points?group=none", {}, 404),
        ]
        for method, path, rest, status in cases:
            with self.subTest(f"{method} {path} {str(rest)[:40]}"):
                self.assertEqual((await self.problem(method, path, **rest))[0], status)
        self.assertEqual(self.local.practice.world.ops, {})

    async def test_what_a_newer_maestoso_says_more_is_not_minded(self) -> None:
        newer = {"verb": "make-sandbox", "subject": "x", "run": "r", "fence": 1, "colour": "blue",
                 "args": {"mark": "m", "speed": 3}}  # fmt: skip
        answer = await self.local.client._http.put("/operations/k", json=newer)
        self.assertEqual(answer.status_code, 200)
        self.assertEqual(list(self.local.practice.world.ops), ["k"])

    async def test_faults_are_set_and_cleared_and_survive_a_restart(self) -> None:
        http = self.local.client._http
        fault = {"verb": "make-sandbox", "effect": "hang"}
        self.assertEqual((await http.post("/practice/faults", json=fault)).status_code, 200)
        await self.local.restart()
        self.assertEqual(len(self.local.practice.world.faults), 1)
        self.assertEqual((await http.delete("/practice/faults")).status_code, 200)
        self.assertEqual(self.local.practice.world.faults, [])


if __name__ == "__main__":
    unittest.main()
