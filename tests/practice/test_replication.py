"""Copying in the practice world: points come as the policy says, trouble shows, nothing is forgotten."""

from __future__ import annotations

import json
import tempfile
import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import httpx

from maestoso.core.codec import to_data
from maestoso.core.model.estate import Link
from maestoso.core.replication.change import ChangeProfile, Job
from maestoso.engine.clock import SystemClock
from maestoso.practice.host import Host
from maestoso.practice.replication import Replication
from maestoso.practice.spec import Replica, Trouble
from maestoso.practice.store import Store
from maestoso.sites.contract import Submission
from tests import worlds

NOW = worlds.NOW.timestamp()
LINK = Link(one="A", other="B", bandwidth_bps=80_000_000)


def replica(code: str = "shop", rate: float = 1e6, **policy: Any) -> Replica:
    """A group that changes ``rate`` bytes a second."""
    group = replace(worlds.GROUP, code=code, policy=replace(worlds.POLICY, **policy))
    return Replica(group=group, profile=ChangeProfile(usual_bps=rate))


def copying(*replicas: Replica, link: Link = LINK) -> Replication:
    """Site B with these groups, since two weeks."""
    return Replication("B", replicas or (replica(),), (link,), NOW)


class Cycles(unittest.TestCase):
    """When all goes well."""

    def test_the_last_days_are_there_as_the_ladder_says(self) -> None:
        made = copying(replica(keep_all_s=3600, keep_hourly_s=86400, keep_daily_s=7 * 86400))
        ages = [NOW - point.at.timestamp() for point in made.copying["shop"].points]
        self.assertGreaterEqual(sum(1 for age in ages if age < 3600), 55)
        self.assertIn(sum(1 for age in ages if 3600 <= age < 86400), range(21, 25))
        self.assertIn(sum(1 for age in ages if age >= 86400), range(5, 8))
        self.assertLess(max(ages), 7 * 86400)

    def test_a_point_comes_once_everything_before_it_is_across(self) -> None:
        made = copying(replica(rate=4e6, interval_s=60))
        made.advance(NOW + 600)
        (state,) = made.states()
        assert state.newest is not None
        self.assertEqual(state.newest.at.timestamp() % 60, 0)
        self.assertLess(NOW + 600 - state.newest.at.timestamp(), 200)
        self.assertEqual(state.failed, {})

    def test_application_consistent_points_come_at_their_cadence(self) -> None:
        made = copying(replica(keep_all_s=6 * 3600, app_consistent_every_s=3600))
        kinds = {p.at.timestamp() % 3600 == 0 for p in made.copying["shop"].points if p.kind[0] == "a"}
        self.assertEqual(kinds, {True})
        never = copying(replica(app_consistent_every_s=0))
        self.assertEqual({p.kind for p in never.copying["shop"].points}, {"crash-consistent"})

    def test_groups_share_the_link_by_weight(self) -> None:
        made = copying(replica("one", rate=40e6, weight=1), replica("three", rate=40e6, weight=3))
        made.advance(NOW + 60)
        rates = {state.group: state.rate_bps for state in made.states()}
        self.assertAlmostEqual(rates["three"] / rates["one"], 3.0, places=3)
        self.assertAlmostEqual(sum(rates.values()), 1e7, delta=1)

    def test_a_nightly_job_is_in_the_series(self) -> None:
        nightly = Replica(
            group=worlds.GROUP,
            profile=ChangeProfile(usual_bps=1e6, jobs=(Job(begins_s=3600, length_s=3600, factor=4.0),)),
        )
        rates = {r.at.hour: r.rate_bps for r in copying(nightly).series("shop", NOW)}
        self.assertGreater(rates[1], 2 * rates[0])

    def test_a_day_in_small_steps_and_in_one_gives_the_same_newest_points(self) -> None:
        small, large = copying(), copying()
        for moment in range(0, 86400, 300):
            small.advance(NOW + moment)
        small.advance(NOW + 86400)
        large.advance(NOW + 86400)
        ids = [[p.id for p in made.copying["shop"].points[-30:]] for made in (small, large)]
        self.assertEqual(ids[0], ids[1])


class FirstCopies(unittest.TestCase):
    """From nothing to protected."""

    def test_progress_rate_and_the_first_point(self) -> None:
        made = Replication("B", (), (LINK,), NOW)
        made.protect(replica(interval_s=5), 1e9, pace=1.0)
        made.advance(NOW + 50)
        (half,) = made.states()
        self.assertAlmostEqual(half.seeded_bytes / 1e9, 0.5, delta=0.06)
        self.assertAlmostEqual(half.rate_bps, 1e7, delta=1)
        self.assertIsNone(half.newest)
        made.advance(NOW + 130)
        (whole,) = made.states()
        self.assertEqual(whole.seeded_bytes, whole.seed_bytes)
        self.assertIsNotNone(whole.newest)

    def test_pace_hurries_only_the_first_copy(self) -> None:
        made = Replication("B", (), (LINK,), NOW)
        made.protect(replica(), 1e9, pace=20.0)
        made.advance(NOW + 10)
        self.assertEqual(made.states()[0].seeded_bytes, 10**9)

    def test_a_seed_is_there_at_once_and_a_time_is_waited_for(self) -> None:
        made = Replication("B", (), (LINK,), NOW)
        made.protect(replica("seeded", interval_s=5, initial="seed"), 1e12, pace=1.0)
        later = worlds.NOW + timedelta(hours=1)
        made.protect(replica("later", initial="at", initial_at=later), 1e9, pace=1.0)
        made.advance(NOW + 30)
        states = {state.group: state for state in made.states()}
        self.assertIsNotNone(states["seeded"].newest)
        self.assertEqual(states["later"].seeded_bytes, 0)
        made.advance(NOW + 3900)
        self.assertEqual(made.states()[1].seeded_bytes, 10**9)

    def test_a_changed_definition_keeps_the_points(self) -> None:
        made = copying()
        before = len(made.copying["shop"].points)
        made.protect(replica(rpo_s=999), 1e9, pace=1.0)
        self.assertEqual(len(made.copying["shop"].points), before)
        self.assertTrue(made.copying["shop"].whole())

    def test_a_new_member_is_copied_first(self) -> None:
        made = copying()
        wide = replace(worlds.GROUP, members=(*worlds.NAMES, "mail"))
        made.protect(Replica(group=wide, profile=ChangeProfile(usual_bps=1e6)), 5e9, pace=1.0)
        self.assertEqual(made.copying["shop"].seed_bytes, 1e9)
        self.assertFalse(made.copying["shop"].whole())


class TroubleShows(unittest.TestCase):
    """In the state that the site tells."""

    def after(self, trouble: Trouble, seconds: int = 300, **policy: Any) -> Any:
        made = copying(replica(**policy))
        made.trouble(trouble)
        made.advance(NOW + seconds)
        return made.states()[0]

    def test_a_cut_link_stalls_and_then_catches_up(self) -> None:
        made = copying()
        made.trouble(Trouble(effect="cut", subject="A"))
        made.advance(NOW + 600)
        (cut,) = made.states()
        self.assertEqual(cut.stalled_because, "the link from A to B is cut")
        self.assertGreater(cut.backlog_bytes, 4e8)
        self.assertEqual(list(cut.failed), ["the link from A to B is cut"])
        self.assertEqual(made.link_states()[0].cut_because, "the link from A to B is cut")
        made.troubles.clear()
        made.advance(NOW + 900)
        (well,) = made.states()
        self.assertEqual(well.stalled_because, "")
        assert well.newest is not None
        self.assertLess(NOW + 900 - well.newest.at.timestamp(), 120)

    def test_a_slow_link_has_less_room(self) -> None:
        self.assertEqual(self.after(Trouble(effect="slow", subject="A", factor=4)).room_bps, 2.5e6)

    def test_a_burst_changes_faster(self) -> None:
        burst = Trouble(effect="burst", subject="shop", factor=9.0)
        self.assertGreater(self.after(burst, 60).change_bps, 6 * self.after(burst, 1200).change_bps)

    def test_failing_cycles_have_a_reason(self) -> None:
        state = self.after(Trouble(effect="failing", subject="shop", reason="out of space"), 3600)
        self.assertEqual(state.failed, {"out of space": state.cycles})

    def test_a_source_that_does_not_answer_stalls(self) -> None:
        made = copying()
        made.away["A"] = "does not answer"
        made.advance(NOW + 60)
        self.assertEqual(made.states()[0].stalled_because, "A does not answer")

    def test_no_link_is_said(self) -> None:
        made = Replication("B", (replica(),), (), NOW)
        self.assertEqual(made.states()[0].stalled_because, "there is no link from A to B")

    def test_a_paused_group_makes_no_points(self) -> None:
        made = copying()
        made.copying["shop"].paused_because = "works"
        newest = made.copying["shop"].points[-1]
        made.advance(NOW + 600)
        self.assertEqual(made.copying["shop"].points[-1], newest)


class Keeping(unittest.TestCase):
    """Nothing is forgotten over a restart."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "b.sqlite"

    def test_what_is_kept_and_restored_goes_on_the_same(self) -> None:
        one, other = copying(), Replication("B", (), (), NOW)
        one.pin("shop", one.copying["shop"].points[3].id, "kept")
        other.restore(json.loads(json.dumps(one.keep())))
        for made in (one, other):
            made.advance(NOW + 3600)
        self.assertEqual(one.states(), other.states())
        self.assertEqual(one.copying["shop"].points, other.copying["shop"].points)

    def test_a_restart_after_a_snapshot_forgets_no_point_and_repeats_no_effect(self) -> None:
        store = Store(self.file, worlds.NOW)
        world = store.replay(worlds.spec())
        points = [point.id for point in world.points("shop")]
        pin = Submission(
            verb="pin-point", subject="shop", run="care", fence=1, args={"point": points[2], "label": "x"}
        )
        store.submitted(NOW + 10, "k1", pin)
        world.submit("k1", pin, NOW + 10)
        world.advance(NOW + 60)
        store.keep_copying(world)
        store.write(NOW + 70, "trouble", to_data(Trouble(effect="cut", subject="A")))
        world.add_trouble(Trouble(effect="cut", subject="A"), NOW + 70)
        world.advance(NOW + 400)
        store.close()
        again = Store(self.file, worlds.NOW).replay(worlds.spec())
        again.advance(NOW + 400)
        self.assertEqual(again.points("shop"), world.points("shop"))
        self.assertEqual(again.replication.states(), world.replication.states())
        self.assertEqual(again.journal, world.journal)
        self.assertEqual(next(p.label for p in again.points("shop") if p.id == points[2]), "x")


class TheHost(unittest.IsolatedAsyncioTestCase):
    """Practice sites that are made when they are asked for."""

    async def asyncSetUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.host = Host(Path(folder.name), SystemClock(), "secret")
        self.line = httpx.AsyncClient(
            transport=httpx.ASGITransport(app=self.host), base_url="http://practice"
        )
        self.addAsyncCleanup(self.line.aclose)

    async def asyncTearDown(self) -> None:
        for running in self.host.running.values():
            running.task.cancel()
            running.site.store.close()

    async def ask(self, path: str, token: str = "secret") -> httpx.Response:
        return await self.line.get(path, headers={"Authorization": f"Bearer {token}"})

    async def test_a_site_begins_empty_and_becomes_what_it_is_told(self) -> None:
        self.assertEqual((await self.ask("/sites/EAST/v1/capabilities")).json()["site"], "EAST")
        told = to_data(worlds.target())
        sent = await self.line.post(
            "/sites/EAST/v1/practice/inventory", json=told, headers={"Authorization": "Bearer secret"}
        )
        self.assertEqual(sent.status_code, 200, sent.text)
        self.assertEqual((await self.ask("/sites/EAST/v1/inventory")).json(), told)

    async def test_strangers_and_odd_names_make_no_site(self) -> None:
        self.assertEqual((await self.ask("/sites/EAST/v1/clock", token="wrong")).status_code, 401)
        for path in ("/sites/../x/v1/clock", "/sites/lower/v1/clock", "/v1/clock"):
            self.assertEqual((await self.ask(path)).status_code, 404, path)
        self.assertEqual(self.host.running, {})


if __name__ == "__main__":
    unittest.main()
