"""What is kept in memory is never older than the records, also when a change is taken back."""

from __future__ import annotations

import unittest
from unittest import mock

from django.core.cache import cache
from django.db import transaction

from maestoso.server.estate import agents
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.estate.workloads import tag
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.picture import lags
from maestoso.server.protection.services import add_members, advance_stage, rows_and_groups
from tests.server.tidewell import Tidewell


class Mistake(Exception):
    """Something that takes a transaction back."""


class Kept(Tidewell):
    """Rows, workloads and groups in memory."""

    def test_a_change_is_seen_at_once(self) -> None:
        before = estate()
        self.assertIs(estate(), before)
        tag(["rig-01"], {"tier": "old"}, [])
        self.assertEqual(estate().rows["rig-01"].tags["tier"], "old")
        self.assertEqual(estate().workloads["rig-01"].tags["tier"], "old")

    def test_a_change_that_is_taken_back_is_not_seen_any_more(self) -> None:
        try:
            with transaction.atomic():
                tag(["rig-01"], {"tier": "one"}, [])
                self.assertEqual(estate().rows["rig-01"].tags["tier"], "one")
                raise Mistake
        except Mistake:
            pass
        self.assertEqual(estate().rows["rig-01"].tags["tier"], "lab")
        tag(["rig-02"], {"tier": "two"}, [])
        self.assertEqual(estate().rows["rig-01"].tags["tier"], "lab")
        self.assertEqual(estate().rows["rig-02"].tags["tier"], "two")

    def test_groups_are_read_anew_when_members_or_stages_change(self) -> None:
        add_members("fleet", ["rig-01"])
        groups = {row.code: group for row, group in rows_and_groups()}
        self.assertIn("rig-01", groups["fleet"].members)
        self.assertEqual(estate().rows["rig-01"].group, "fleet")
        row = GroupRow.objects.get(code="fleet")
        row.stage = "seeding"
        advance_stage(row, "seeded")
        stages = {row.code: row.stage for row, _ in rows_and_groups()}
        self.assertEqual(stages["fleet"], "protected")


class Listing(Tidewell):
    """Many groups on one page."""

    def test_groups_are_found_by_name_and_those_in_trouble_come_first(self) -> None:
        found = self.browser.get("/api/v1/groups?find=BOOKING").json()
        self.assertEqual([line["code"] for line in found["groups"]], ["booking-db", "booking-app"])
        self.assertEqual(found["all_groups"], 8)
        Site.objects.filter(code="NOR").update(agent_url="http://127.0.0.1:9")
        first = self.browser.get("/api/v1/groups?limit=1").json()
        self.assertEqual([line["code"] for line in first["groups"]], ["reporting"])
        self.problem(self.browser.get("/api/v1/groups?limit=0"), 400, "bad-value")

    def test_lags_come_thinned_and_are_empty_where_a_site_is_away(self) -> None:
        lines = {line["code"]: line for line in self.browser.get("/api/v1/groups").json()["groups"]}
        day = lags(Site.objects.get(code="HIL"))["fleet"]
        self.assertGreater(len(day), 250)
        worst = [max(day[at : at + 3]) for at in range(0, len(day), 3)]
        self.assertEqual(lines["fleet"]["lags"], worst)
        self.assertEqual(lines["fleet"]["lag_every_s"], 900)
        cache.clear()
        Site.objects.filter(code="HIL").update(agent_url="http://127.0.0.1:9")
        lines = {line["code"]: line for line in self.browser.get("/api/v1/groups").json()["groups"]}
        self.assertEqual(lines["fleet"]["lags"], [])


class Remembering(unittest.TestCase):
    """What is remembered for seconds."""

    def setUp(self) -> None:
        cache.clear()
        self.addCleanup(cache.clear)

    def test_what_is_asked_for_is_the_very_object_that_was_set(self) -> None:
        value = {"large": object()}
        cache.set("key", value, 60)
        self.assertIs(cache.get("key"), value)
        self.assertFalse(cache.add("key", "another", 60))
        self.assertIs(cache.get("key"), value)

    def test_it_is_gone_when_its_time_is_over_or_it_is_taken_away(self) -> None:
        cache.set("over", 1, 0)
        self.assertEqual(cache.get("over", "none"), "none")
        self.assertTrue(cache.add("new", 2, 60))
        cache.delete("new")
        self.assertIsNone(cache.get("new"))

    def test_numbers_are_counted(self) -> None:
        cache.set("count", 1, 60)
        self.assertEqual((cache.incr("count"), cache.decr("count"), cache.get("count")), (2, 1, 1))


class Asking(Tidewell):
    """Pulses."""

    def test_a_pulse_is_asked_for_once_in_a_while(self) -> None:
        site = Site.objects.get(code="HIL")
        first = agents.pulse(site)
        with mock.patch.object(agents, "ask", side_effect=AssertionError("asked again")):
            self.assertEqual(agents.pulse(site), first)
