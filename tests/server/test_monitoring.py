"""What monitors are told: alive, ready, and figures that agree with the pages."""

from __future__ import annotations

import json
import re
from datetime import timedelta
from unittest import mock

import yaml
from django.contrib.auth.models import User
from django.db.models.functions import Now
from django.test import Client
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from maestoso.engine.clock import SystemClock
from maestoso.server.backups.models import Backup
from maestoso.server.common import room
from maestoso.server.config.options import ROOT
from maestoso.server.estate.models import Site
from maestoso.server.jobs.models import Job
from maestoso.server.jobs.services import begin
from maestoso.server.keeper.leases import take
from maestoso.server.messages.models import Message
from maestoso.server.monitoring import health
from maestoso.server.runs.beats import Beats, silent
from maestoso.server.runs.models import EngineBeat, Run
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell


class Ready(Tidewell):
    def ready(self) -> tuple[int, list[str]]:
        """What is answered to somebody who has not signed in."""
        reply = Client().get("/readyz")
        return reply.status_code, reply.content.decode().splitlines()

    def test_alive_is_said_without_asking_anybody(self) -> None:
        with self.assertNumQueries(0):
            reply = Client().get("/healthz")
        self.assertEqual((reply.status_code, reply.content), (200, b"ok\n"))

    def test_it_is_ready_when_an_engine_and_a_keeper_are_at_work(self) -> None:
        status, said = self.ready()
        self.assertEqual(status, 503)
        self.assertEqual(len(said), 2, said)
        Beats("engine of a test").turned(0.1)
        self.assertEqual(self.ready()[1], ["No keeper is at work: nothing looks after sites and records."])
        take("records", "a keeper")
        self.assertEqual(self.ready(), (200, ["ok"]))
        EngineBeat.objects.update(at=Now() - timedelta(minutes=3))
        status, (why,) = self.ready()
        self.assertEqual(status, 503)
        # The clock of the database goes on meanwhile.
        self.assertRegex(why, r"^No engine was heard for 3 min( \d+ s)?: runs stand still\.$")

    def test_tables_of_another_release_and_a_full_disk_are_reasons(self) -> None:
        Beats("engine of a test").turned(0.1)
        take("records", "a keeper")
        with mock.patch.object(health, "free_mib", lambda: 12):
            self.assertIn("12 MiB are left", self.ready()[1][0])
        with (
            mock.patch.object(health, "_tables_fit", False),
            mock.patch.object(health.MigrationExecutor, "migration_plan", lambda *_: [1, 2]),
        ):
            self.assertEqual(
                self.ready(), (503, ["The tables are of an older release: 2 migrations are to be made."])
            )
        self.assertGreater(room.free_mib(), 0)


class AtWork(Tidewell):
    """The board says when nobody conducts."""

    def titles(self) -> list[str]:
        """Of the board's actions."""
        return [action["title"] for action in self.browser.get("/api/v1/readiness").json()["actions"]]

    def test_that_no_engine_is_at_work_is_the_first_thing_on_the_board(self) -> None:
        title = "No engine is at work: runs stand still"
        self.assertNotIn(title, self.titles())
        beats = Beats("engine of a test")
        beats.turned(0.1)
        self.assertIsNone(silent())
        self.assertNotIn(title, self.titles())
        EngineBeat.objects.update(at=Now() - timedelta(minutes=3))
        self.assertEqual(self.titles()[0], title)
        Beats("another").turned(0.1)
        self.assertNotIn(title, self.titles())

    def test_that_nobody_works_at_jobs_is_said_once_somebody_waits(self) -> None:
        begin("export", "Estate as CSV", {}, by="ann")
        self.assertNotIn("Nobody works at jobs", self.titles())
        Job.objects.update(asked_at=SystemClock().now() - timedelta(minutes=5))
        self.assertIn("Nobody works at jobs", self.titles())

    def test_one_that_was_stopped_is_not_missed(self) -> None:
        beats = Beats("engine of a test")
        beats.turned(0.1)
        EngineBeat.objects.update(at=Now() - timedelta(minutes=3))
        beats.ended()
        self.assertIsNone(silent())


class Figures(Tidewell):
    history = True

    def figures(self, browser: Client | None = None) -> dict[tuple[str, ...], float]:
        """By name, and by labels in the order of their names."""
        reply = (browser or self.browser).get("/metrics")
        self.assertEqual(reply.status_code, 200, reply.content)
        self.assertIn("openmetrics", reply.headers["Content-Type"])
        families = text_string_to_metric_families(reply.content.decode())
        return {(one.name, *one.labels.values()): one.value for family in families for one in family.samples}

    def test_they_agree_with_the_pages(self) -> None:
        Beats("engine of a test").turned(0.25)
        found = self.figures()
        board = self.browser.get("/api/v1/readiness").json()
        for row in board["plans"]:
            self.assertEqual(found["maestoso_rto_seconds", row["code"]], row["rto_s"])
            if row["forecast"]:
                self.assertAlmostEqual(
                    found["maestoso_forecast_seconds", row["code"], "0.5"], row["forecast"]["p50_s"], 3
                )
            for kind in row["kinds"]:
                self.assertEqual(
                    found["maestoso_plan_ready", kind["kind"], row["code"]], float(not kind["blocking"])
                )
        groups = self.browser.get("/api/v1/groups").json()["groups"]
        for group in groups:
            self.assertEqual(
                found["maestoso_group_condition", group["health"]["condition"], group["code"]], 1.0
            )
            self.assertAlmostEqual(
                found["maestoso_group_lag_seconds", group["code"], group["target"]],
                group["health"]["lag_s"],
                delta=60,
            )
        self.assertEqual({code: found["maestoso_site_up", code] for code in ("QUA", "HIL", "NOR")},
                         {"QUA": 1.0, "HIL": 1.0, "NOR": 1.0})  # fmt: skip
        passed = Run.objects.filter(kind="test", outcome="passed").count()
        self.assertEqual(found["maestoso_runs_ended_total", "test", "passed"], float(passed))
        self.assertGreater(passed, 0)
        self.assertEqual(found["maestoso_engine_turn_seconds", "engine of a test"], 0.25)
        self.assertGreater(found["maestoso_steps_total", "done", "power-on"], 0)
        self.assertGreater(found["maestoso_step_duration_mean_seconds", "power-on"], 0)
        self.assertEqual(found["maestoso_keeper_up",], 0.0)
        self.assertEqual(found["maestoso_job_wait_seconds",], 0.0)
        self.assertEqual(found["maestoso_message_stuck_seconds",], 0.0)
        begin("export", "Estate as CSV", {}, by="ann")
        old = SystemClock().now() - timedelta(hours=1)
        ann = User.objects.get(username="ann")
        Message.objects.create(user=ann, parts=[], made_at=old, due_at=old, not_before=old, tries=3)
        after = self.figures()
        self.assertEqual(after["maestoso_jobs", "export", "waiting"], 1.0)
        self.assertEqual(after["maestoso_messages", "mail", "waiting"], 1.0)
        self.assertGreater(after["maestoso_message_stuck_seconds",], 3599.0)
        self.assertGreater(after["maestoso_job_wait_seconds",], 0.0)

    def test_rules_and_dashboard_that_come_along_ask_for_figures_that_there_are(self) -> None:
        Beats("engine of a test").turned(0.25)
        Backup.objects.create(at=SystemClock().now(), file="x", by="keeper")
        there = {key[0] for key in self.figures()} | {"maestoso_runs_under_way"}
        rules = yaml.safe_load((ROOT / "samples/alerts.yml").read_text())["groups"][0]["rules"]
        asked = [rule["expr"] for rule in rules]
        for panel in json.loads((ROOT / "samples/dashboard.json").read_text())["panels"]:
            asked += [target["expr"] for target in panel["targets"]]
        self.assertGreater(len(asked), 20)
        self.assertEqual(set(re.findall(r"maestoso_\w+", " ".join(asked))) - there, set())

    def test_a_site_that_is_silent_is_down(self) -> None:
        Site.objects.filter(code="HIL").update(agent_url="http://127.0.0.1:9")
        found = self.figures()
        self.assertEqual((found["maestoso_site_up", "HIL"], found["maestoso_site_up", "QUA"]), (0.0, 1.0))

    def test_they_are_for_who_may_see_everything(self) -> None:
        self.assertEqual(Client().get("/metrics").status_code, 403)
        made = self.browser.send("POST", "/account/tokens", {"name": "monitor", "roles": ["viewer"]})
        self.problem(made, 400, "bad-value") if made.status_code == 400 else None
        make_person("vic", PASSWORD, [])
        role = {"full_name": "Vic", "mail": "", "active": True, "roles": ["viewer"]}
        scoped = {**role, "scopes": {"viewer": {"plans": ["REPT"]}}}
        self.assertEqual(self.browser.send("PUT", "/people/vic", scoped).status_code, 200)
        vic = Browser()
        vic.sign_in("vic")
        self.assertEqual(vic.get("/metrics").status_code, 403)
        reply = self.browser.send("PUT", "/people/vic", {**role, "scopes": {}})
        self.assertEqual(reply.status_code, 200, reply.content)
        made = vic.send("POST", "/account/tokens", {"name": "monitor", "roles": ["viewer"]}).json()
        secret = made["secret"] if "secret" in made else self.fail(made)
        reply = Client().get("/metrics", headers={"Authorization": f"Bearer {secret}"})
        self.assertEqual(reply.status_code, 200)
