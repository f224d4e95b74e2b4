"""Plans over the API: reading, judging, saving, and bad input."""

from __future__ import annotations

import copy
from typing import Any

from django.core.cache import cache

from maestoso.core.errors import Refused
from maestoso.core.model.protection import Group, Policy
from maestoso.engine.clock import SystemClock
from maestoso.server.common.secret_text import seal
from maestoso.server.config.settings import OPTIONS
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.services import move_practice_sites, register_site
from maestoso.server.estate.shapes import AgentAt
from maestoso.server.protection.services import make_group
from tests.server.tidewell import TOKEN, Browser, Tidewell


class PlanCase(Tidewell):
    """With the plan Booking end to end at hand."""

    def setUp(self) -> None:
        super().setUp()
        reply = self.browser.get("/api/v1/plans/BOOK")
        self.etag = reply.headers["ETag"]
        self.plan: dict[str, Any] = reply.json()["plan"]

    def member(self, name: str, plan: dict[str, Any] | None = None) -> dict[str, Any]:
        """One member of the plan."""
        waves = (plan or self.plan)["waves"]
        return next(m for wave in waves for m in wave["members"] if m["workload"] == name)

    def save(self, plan: dict[str, Any], etag: str | None = None, browser: Browser | None = None) -> Any:
        """Save a version."""
        return (browser or self.browser).send(
            "PUT", "/plans/BOOK", {"plan": plan}, **{"If-Match": etag or self.etag}
        )


class Saving(PlanCase):
    """New versions, and two people at once."""

    def test_a_save_is_a_new_version_that_says_what_it_changed(self) -> None:
        self.member("web-01")["delay_s"] = 90
        reply = self.save(self.plan)
        self.assertEqual(reply.status_code, 201)
        self.assertEqual(reply.json(), {"version": 2, "summary": "web-01 waits 45 s longer"})
        self.assertEqual(reply.headers["ETag"], '"BOOK-2"')
        detail = self.browser.get("/api/v1/plans/BOOK").json()
        self.assertEqual((detail["version"], detail["plan"]), (2, self.plan))
        self.assertEqual([v["number"] for v in detail["versions"]], [2, 1])
        self.assertEqual(detail["versions"][0]["author"], "ann")

    def test_the_second_of_two_people_is_told_what_changed_and_loses_nothing(self) -> None:
        theirs, mine = copy.deepcopy(self.plan), copy.deepcopy(self.plan)
        self.member("web-01", theirs)["delay_s"] = 90
        self.member("api-01", mine)["delay_s"] = 10
        ben = Browser()
        ben.sign_in("ben")
        self.assertEqual(self.save(theirs, browser=ben).status_code, 201)
        body = self.problem(self.save(mine), 412, "stale")
        self.assertIn("ben saved version 2", body["detail"])
        self.assertEqual(body["changes"], ["web-01 waits 45 s longer"])
        self.assertEqual(body["current"], 2)
        self.assertEqual(self.member("web-01", body["merged"])["delay_s"], 90)
        self.assertEqual(self.member("api-01", body["merged"])["delay_s"], 10)
        again = self.save(body["merged"], etag='"BOOK-2"')
        self.assertEqual(again.json(), {"version": 3, "summary": "api-01 waits 20 s less"})

    def test_a_cycle_is_refused_and_named_in_order(self) -> None:
        self.member("api-01")["depends_on"] = ["pay-relay-01"]
        body = self.problem(self.save(self.plan), 409, "dependency-cycle")
        self.assertIn("api-01 waits for pay-relay-01 waits for api-01", body["detail"])
        self.assertEqual(self.browser.get("/api/v1/plans/BOOK").json()["version"], 1)

    def test_what_could_never_run_is_refused_with_its_code(self) -> None:
        def twice(plan: dict[str, Any]) -> None:
            plan["waves"][3]["members"].append(copy.deepcopy(plan["waves"][0]["members"][0]))

        def ghost(plan: dict[str, Any]) -> None:
            plan["waves"][0]["members"][0]["workload"] = "ghost-01"

        def late(plan: dict[str, Any]) -> None:
            plan["waves"][0]["members"][0]["delay_s"] = 10**7

        def endless(plan: dict[str, Any]) -> None:
            plan["rto_s"] = 10**30

        renamed = {**self.plan, "owner": "ann"}
        reply = self.browser.send(
            "PUT", "/plans/BOOK", {"plan": renamed, "summary": "x" * 401}, **{"If-Match": self.etag}
        )
        self.assertEqual(self.problem(reply, 400, "bad-value")["field"], "body.summary")
        for change, code in (
            (endless, "out-of-range"),
            (twice, "member-twice"),
            (ghost, "workload-unknown"),
            (late, "delay-out-of-range"),
        ):
            plan = copy.deepcopy(self.plan)
            change(plan)
            self.problem(self.save(plan), 409, code)

    def test_code_and_direction_stay(self) -> None:
        for field, value in (("code", "BOOK2"), ("source", "HIL"), ("target", "NOR")):
            body = self.problem(self.save({**self.plan, field: value}), 400, "bad-value")
            self.assertEqual(body["field"], f"body.plan.{field}")

    def test_nothing_changed_is_no_version(self) -> None:
        self.problem(self.save(self.plan), 409, "refused")

    def test_a_version_that_never_was_and_a_header_that_is_none(self) -> None:
        self.member("web-01")["delay_s"] = 90
        self.problem(self.save(self.plan, etag='"BOOK-77"'), 412, "stale")
        for bad in ("", "*", '"HARB-1"', '"BOOK-x"', '"BOOK-99999999999999999999"'):
            reply = self.browser.send("PUT", "/plans/BOOK", {"plan": self.plan}, **{"If-Match": bad})
            self.assertEqual(self.problem(reply, 400, "bad-value")["field"], "If-Match")


class Judging(PlanCase):
    """Forecast and findings of a draft."""

    def assess(self, plan: Any, based_on: Any = 1) -> Any:
        """Judge a draft."""
        return self.browser.send("POST", "/plans/BOOK/assessment", {"plan": plan, "based_on": based_on})

    def test_a_longer_delay_makes_a_longer_forecast(self) -> None:
        before = self.assess(self.plan).json()
        self.member("db-book-02")["delay_s"] += 300
        after = self.assess(self.plan).json()
        self.assertAlmostEqual(after["forecast"]["p50_s"] - before["forecast"]["p50_s"], 300, delta=20)
        self.assertEqual(after["changes"], ["db-book-02 waits 300 s longer"])
        self.assertTrue(after["steps"])

    def test_a_draft_that_cannot_run_says_why_and_has_no_forecast(self) -> None:
        self.member("db-book-01")["depends_on"] = ["web-01"]
        body = self.assess(self.plan).json()
        self.assertTrue(body["blocked"])
        self.assertIsNone(body["forecast"])
        self.assertEqual(body["findings"][0]["code"], "waits-for-later-wave")

    def test_what_uses_an_unprotected_service_is_noticed(self) -> None:
        codes = {f["code"]: f["subject"] for f in self.assess(self.plan).json()["findings"]}
        self.assertEqual(codes["uses-what-stays-behind"], "mail-01")

    def test_bad_bodies_are_refused_with_field_and_value(self) -> None:
        cases: list[tuple[Any, str]] = [
            ({"plan": {**self.plan, "rto_s": "soon"}, "based_on": 1}, "body.plan.rto_s"),
            ({"plan": {**self.plan, "colour": 1}, "based_on": 1}, "body.plan.colour"),
            ({"plan": self.plan}, "body.based_on"),
            ({"plan": self.plan, "based_on": None}, "body.based_on"),
            ({"plan": {**self.plan, "waves": {}}, "based_on": 1}, "body.plan.waves"),
            ([], "body"),
        ]
        for body, field in cases:
            with self.subTest(field):
                reply = self.browser.send("POST", "/plans/BOOK/assessment", body)
                self.assertEqual(self.problem(reply, 400, "bad-value")["field"], field)
        for text in ("{oops", "[" * 100_000):
            self.problem(self.browser.send("POST", "/plans/BOOK/assessment", text), 400, "not-json")

    def test_a_site_that_is_not_there_is_said(self) -> None:
        reply = self.assess({**self.plan, "target": "XYZ"})
        self.problem(reply, 404, "not-found")

    def test_an_unknown_plan_names_the_known_ones(self) -> None:
        body = self.problem(self.browser.get("/api/v1/plans/NOPE"), 404, "not-found")
        self.assertIn("BOOK", body["remedy"])


class Preflight(PlanCase):
    """What must hold before a test may start."""

    def ask(self, **options: Any) -> Any:
        """Preflight with these choices."""
        return self.browser.send("POST", "/plans/BOOK/preflight", options)

    def test_it_says_in_words_what_would_happen(self) -> None:
        body = self.ask(pace=20).json()
        self.assertFalse(body["assessment"]["blocked"])
        self.assertIn("Production at Quayside keeps running", body["consequences"][0])
        self.assertTrue(body["practice"])

    def test_points_of_every_group_come_with_the_hint(self) -> None:
        groups = {g["group"]: g for g in self.browser.get("/api/v1/plans/BOOK/points").json()["groups"]}
        self.assertEqual(set(groups), {"harbour", "booking-db", "booking-app"})
        self.assertIn(groups["booking-db"]["hint"], [p["id"] for p in groups["booking-db"]["points"]])
        self.assertIsNone(groups["harbour"]["hint"])

    def test_choices_that_make_no_sense_are_refused(self) -> None:
        cases: list[tuple[dict[str, Any], str]] = [
            ({"pace": 0}, "body.pace"),
            ({"pace": 5000}, "body.pace"),
            ({"cleanup_after_s": -1}, "body.cleanup_after_s"),
            ({"points": {"nope": "x"}}, "body.points"),
            ({"points": {"harbour": "harbour@1"}}, "body.points.harbour"),
            ({"sync_first": "yes"}, "body.sync_first"),
            ({"probe": [{"workload": "db-book-01", "service": "nope"}]}, "body.probe"),
            ({"probe": self.ask().json()["services"][:1], "kind": "planned"}, "body.probe"),
        ]
        for options, field in cases:
            with self.subTest(field):
                self.assertEqual(self.problem(self.ask(**options), 400, "bad-value")["field"], field)

    def test_a_real_site_runs_at_pace_one(self) -> None:
        Site.objects.filter(code="HIL").update(practice=False)
        self.assertEqual(self.problem(self.ask(pace=20), 400, "bad-value")["field"], "body.pace")
        self.assertEqual(self.ask(pace=1).status_code, 200)

    def test_a_target_that_does_not_answer_blocks_in_words(self) -> None:
        Site.objects.filter(code="HIL").update(agent_url="http://127.0.0.1:9")
        cache.clear()
        body = self.ask().json()
        self.assertTrue(body["assessment"]["blocked"])
        self.assertIn("site-unreachable", [f["code"] for f in body["assessment"]["findings"]])
        self.problem(self.browser.get("/api/v1/plans/BOOK/points"), 409, "site-unreachable")


class EstateAndProtection(Tidewell):
    """What loading the scenario relies on."""

    def test_a_workload_is_in_one_group_only_and_both_are_named(self) -> None:
        group = Group(
            code="second",
            name="Second",
            source="QUA",
            target="HIL",
            members=("mail-01", "web-01"),
            policy=Policy(interval_s=60, rpo_s=120),
        )
        with self.assertRaises(Refused) as caught:
            make_group(group)
        self.assertIn("Booking services", caught.exception.sentence)
        self.assertIn("Second", caught.exception.sentence)

    def test_the_agent_of_another_site_is_refused_and_nothing_is_half_written(self) -> None:
        moved = WorkloadRow.objects.get(name="watch-01")
        moved.site = Site.objects.get(code="QUA")
        moved.save()
        with self.assertRaises(Refused):
            register_site(
                code="NO2",
                name="Again",
                kind="cloud",
                time_zone="UTC",
                agent=AgentAt(agent_url=self.sites.urls["NOR"], token=TOKEN),
                clock=SystemClock(),
            )
        self.assertFalse(WorkloadRow.objects.filter(site__code="NO2").exists())

    def test_practice_sites_are_looked_for_at_the_ports_of_now_and_those_of_others_left_alone(self) -> None:
        Site.objects.filter(code="NOR").update(agent_url="http://127.0.0.1:9/sites/NOR")
        other = Site.objects.get(code="HIL")
        Site.objects.filter(code="HIL").update(agent_token=seal("a token of somebody else's"))
        move_practice_sites({code: f"http://127.0.0.1:1{code}" for code in ("QUA", "HIL")})
        found = dict(Site.objects.values_list("code", "agent_url"))
        here = f"http://127.0.0.1:{OPTIONS.practice_port}/sites/NOR"
        self.assertEqual(found, {"QUA": "http://127.0.0.1:1QUA", "HIL": other.agent_url, "NOR": here})

    def test_the_agents_token_is_not_stored_in_the_clear(self) -> None:
        for site in Site.objects.all():
            self.assertNotIn(TOKEN, site.agent_token)

    def test_the_site_line_says_where_everything_runs(self) -> None:
        line = self.browser.get("/api/v1/site-line").json()
        self.assertEqual([s["code"] for s in line["stations"]], ["QUA", "HIL", "NOR"])
        self.assertEqual(line["stations"][0]["running"], 35)
        self.assertEqual(
            [(f["source"], f["target"], f["groups"]) for f in line["flows"]],
            [("QUA", "HIL", 7), ("HIL", "NOR", 1)],
        )

    def test_workloads_come_with_their_group(self) -> None:
        groups = {w["name"]: w["group"] for w in self.browser.get("/api/v1/workloads").json()["rows"]}
        self.assertEqual((groups["web-01"], groups["mail-01"]), ("booking-app", ""))
