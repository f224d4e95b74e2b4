"""Cues, scripts, parts, mends and looking ahead, through the API."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any
from unittest import mock

from asgiref.sync import async_to_sync
from django.core.cache import cache

from maestoso.core.codec import from_data, to_data
from maestoso.core.model.plan import Plan
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.ports import Feed, LogUnavailable, SiteUnreachable
from maestoso.core.readiness.assess import Options
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.core.runs.state import RunState
from maestoso.engine.clock import SystemClock
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.world import World
from maestoso.server.audit.models import AuditEntry
from maestoso.server.estate.models import Site
from maestoso.server.plans.models import PlanRow
from maestoso.server.readiness.starts import create_run, record_played_run
from maestoso.server.readiness.surroundings import context
from maestoso.server.runs.delivery import RecordedSite
from maestoso.server.runs.events import run_name
from maestoso.server.scripts.models import Secret
from tests.server.tidewell import SCENARIO, Tidewell, assert_tagged
from tests.worlds import judge

BOOK, FLEET = "/plans/BOOK", "/plans/FLEET"


class Authoring(Tidewell):
    """What tests of drafts need."""

    def draft(self, code: str) -> dict[str, Any]:
        """The newest version of a plan, to be changed."""
        plan: dict[str, Any] = self.browser.get(f"/api/v1/plans/{code}").json()["plan"]
        return plan

    def judged(self, plan: dict[str, Any], **more: Any) -> dict[str, Any]:
        """What is thought of a draft."""
        body = {"plan": plan, "based_on": 1, **more}
        reply = self.browser.send("POST", f"/plans/{plan['code']}/assessment", body)
        self.assertEqual(reply.status_code, 200, reply.content)
        said: dict[str, Any] = reply.json()
        return said

    def codes(self, plan: dict[str, Any]) -> list[str]:
        """The codes of its findings."""
        return [finding["code"] for finding in self.judged(plan)["findings"]]


class Scripts(Authoring):
    """The library, and the secrets that are never said."""

    def save(self, name: str = "hello", **changes: Any) -> Any:
        body = {"interpreter": "sh", "text": "echo hello\n", "note": "Says hello.", **changes}
        return self.browser.send("PUT", f"/scripts/{name}", body)

    def test_a_script_is_kept_and_changed_on_top_of_what_one_saw(self) -> None:
        first = self.save().json()
        self.assertEqual((first["revision"], first["used_by"]), (1, []))
        self.assertEqual(self.save(text="echo bye\n", based_on=1).json()["revision"], 2)
        self.problem(self.save(text="echo other\n", based_on=1), 412, "stale")

    def test_bad_scripts_are_refused_by_field(self) -> None:
        for changes, field in (({"interpreter": "SH; rm"}, "interpreter"), ({"text": " "}, "text"),
                               ({"note": "x" * 500}, "note"), ({"text": "x" * 70_000}, "text")):  # fmt: skip
            self.assertIn(field, self.problem(self.save(**changes), 400, "bad-value")["field"])
        self.problem(self.save("Bad Name"), 400, "bad-value")

    def test_a_changed_script_blocks_the_plan_until_the_text_is_taken_in(self) -> None:
        said = next(
            s for s in self.browser.get("/api/v1/library").json()["scripts"] if s["used_by"] == ["FLEET"]
        )
        self.save(said["name"], text=said["text"] + "# more\n", based_on=said["revision"])
        again = next(
            s for s in self.browser.get("/api/v1/library").json()["scripts"] if s["name"] == said["name"]
        )
        self.assertEqual(again["stale_in"], ["FLEET"])
        plan = self.draft("FLEET")
        found = next(f for f in self.judged(plan)["findings"] if f["code"] == "script-changed")
        self.assertEqual((found["severity"], found["fix"]), ("blocks", "Use the new text"))
        asked = {"plan": plan, "code": found["code"], "subject": found["subject"], "part": found["part"]}
        better = self.browser.send("POST", f"{FLEET}/mend", asked).json()["plan"]
        self.assertNotIn("script-changed", self.codes(better))
        start = self.browser.send("POST", "/runs", {"plan": "FLEET"}, **{"Idempotency-Key": "changed"})
        self.problem(start, 409, "preflight-blocks")

    def test_what_a_plan_runs_stays(self) -> None:
        self.problem(self.browser.send("DELETE", "/scripts/replay-positions"), 409, "in-use")
        self.problem(self.browser.send("DELETE", "/secrets/feed-token"), 409, "in-use")
        self.assertEqual(self.browser.send("DELETE", "/scripts/drain-broker").status_code, 204)
        self.problem(self.browser.send("DELETE", "/scripts/drain-broker"), 404, "not-found")
        self.problem(self.browser.send("DELETE", "/secrets/none"), 404, "not-found")

    def test_a_secret_is_written_and_never_read(self) -> None:
        value = "hush-hush-1234"
        self.assertEqual(self.browser.send("PUT", "/secrets/my-token", {"value": value}).status_code, 204)
        library = self.browser.get("/api/v1/library")
        self.assertIn("my-token", library.content.decode())
        self.assertNotIn(value, library.content.decode())
        self.assertNotIn(value, Secret.objects.get(name="my-token").sealed)
        body = self.problem(
            self.browser.send("PUT", "/secrets/my-token", {"value": "x" * 5000}), 400, "bad-value"
        )
        self.assertNotIn("xxxx", body["detail"])
        self.assertEqual(self.browser.send("DELETE", "/secrets/my-token").status_code, 204)

    def test_secrets_are_filled_in_only_where_they_are_sent(self) -> None:
        sent: list[Operation] = []

        class Site:
            async def put_operation(self, operation: Operation, fence: int) -> OperationState:
                sent.append(operation)
                return OperationState(key=operation.key, status="accepted")

            async def operation(self, key: str) -> OperationState | None:
                return None

            async def changes(self, after: int, wait_s: float) -> Feed:
                return Feed(states=[], cursor=after)

        args = {"secrets": {"FEED_TOKEN": "feed-token", "NONE": "not-stored"}}
        asked = Operation(key="feed", run=run_name(7), verb="run-script", subject="x", args=args)
        site = RecordedSite("HIL")
        # Renewing the connection, as an engine must, would end the transaction that this test is in.
        here = mock.patch("maestoso.server.runs.delivery.reachable", side_effect=lambda call: call)
        with here, mock.patch("maestoso.server.runs.delivery.speak_to", lambda *asked: Site()):
            async_to_sync(site.put_operation)(asked, 1)
            async_to_sync(site.put_operation)(asked, 1)
        (entry,) = AuditEntry.objects.filter(did__startswith="Used ")
        self.assertEqual((entry.path, entry.by), ("runs/7", ""))
        self.assertEqual(entry.did, "Used the secret feed-token for run-script of x")
        self.assertNotIn(SCENARIO.data("scripts")["secrets"]["feed-token"], str(AuditEntry.objects.values()))
        self.assertEqual(
            sent.pop().args["secrets"], {"FEED_TOKEN": SCENARIO.data("scripts")["secrets"]["feed-token"]}
        )
        self.assertEqual(asked.args["secrets"]["FEED_TOKEN"], "feed-token")
        self.assertEqual(async_to_sync(site.changes)(3, 0.0).cursor, 3)
        self.assertIsNone(async_to_sync(site.operation)("feed"))
        # While they cannot be read nothing is sent, and it is tried again as with a site that is away.
        gone = mock.Mock(side_effect=LogUnavailable("the database is away"))
        away = mock.patch("maestoso.server.runs.delivery.reachable", return_value=gone)
        with away, self.assertRaises(SiteUnreachable):
            async_to_sync(site.put_operation)(asked, 1)
        self.assertEqual(len(sent), 1)


class Parts(Authoring):
    """Plans made of plans."""

    def test_everything_is_its_parts_and_its_own_waves(self) -> None:
        said = self.judged(self.draft("ALL"))
        self.assertEqual((said["own_from"], len(said["waves"])), (9, 10))
        self.assertEqual(said["waves"][0], "Harbour core first: Directory and time")
        twice = {f["subject"] for f in said["findings"] if f["code"] == "arrives-twice"}
        self.assertEqual(twice, {"dir-01", "dir-02", "name-01"})
        self.assertIsNotNone(said["forecast"])

    def test_a_plan_cannot_contain_itself(self) -> None:
        harb = self.draft("HARB")
        harb["parts"] = [{"plan": "ALL"}]
        reply = self.browser.send("PUT", "/plans/HARB", {"plan": harb}, **{"If-Match": '"HARB-1"'})
        self.assertIn("contains", self.problem(reply, 409, "part-circle")["detail"])

    def test_a_part_that_is_there_twice_is_warned_of_and_saved(self) -> None:
        plan = self.draft("ALL")
        plan["parts"].append({"plan": "HARB"})
        self.assertIn("part-twice", self.codes(plan))
        reply = self.browser.send("PUT", "/plans/ALL", {"plan": plan}, **{"If-Match": '"ALL-1"'})
        self.assertEqual(reply.status_code, 201, reply.content)

    def test_a_part_that_is_another_plans_cannot_be_retired(self) -> None:
        self.assertIn(
            "ALL", self.problem(self.browser.send("DELETE", "/plans/HARB"), 409, "in-use")["detail"]
        )

    def test_a_run_of_it_is_of_the_whole(self) -> None:
        row = PlanRow.objects.get(code="ALL")
        ctx = context(row.version().core(), 1, SystemClock().now())
        run = create_run(ctx, Options(points={}), by="ann", at=SystemClock().now())
        self.assertTrue(run.steps.filter(workload="db-book-01").exists())
        self.problem(
            self.browser.send("POST", "/runs", {"plan": "BOOK"}, **{"Idempotency-Key": "two"}),
            409,
            "run-in-the-way",
        )

    def test_points_and_landings_are_of_the_whole(self) -> None:
        groups = {group["group"] for group in self.browser.get("/api/v1/plans/ALL/points").json()["groups"]}
        self.assertIn("booking-db", groups)
        rows = self.browser.get("/api/v1/plans/ALL/landings").json()["rows"]
        self.assertIn("web-01", {row["workload"] for row in rows})


class Drafts(Authoring):
    """Mends, templates and other limits."""

    def test_what_a_tag_brings_in_is_taken_in_by_one_press(self) -> None:
        plan = self.draft("BOOK")
        plan["waves"][3]["tag_rule"] = "app=booking tier=web"
        plan["waves"][3]["members"] = plan["waves"][3]["members"][:1]
        found = next(f for f in self.judged(plan)["findings"] if f["code"] == "tag-brings")
        self.assertEqual((found["subject"], found["fix"]), ("web-02", "Add it"))
        asked = {"plan": plan, "code": "tag-brings", "subject": "web-02", "part": found["part"]}
        better = self.browser.send("POST", f"{BOOK}/mend", asked).json()["plan"]
        self.assertNotIn("tag-brings", self.codes(better))

    def test_of_two_alike_the_one_that_was_pressed_is_mended(self) -> None:
        plan = self.draft("BOOK")
        plan["waves"][1], plan["waves"][2] = plan["waves"][2], plan["waves"][1]
        found = [f for f in self.judged(plan)["findings"] if f["code"] == "service-comes-later"]
        mine = [f for f in found if f["subject"] == "api-01"]
        self.assertEqual([f["others"] for f in mine], [["db-book-01"], ["broker-01"]])
        asked = {key: mine[1][key] for key in ("code", "subject", "part", "others")}
        better = self.browser.send("POST", f"{BOOK}/mend", {"plan": plan, **asked}).json()["plan"]
        left = [f for f in self.judged(better)["findings"] if f["code"] == "service-comes-later"]
        self.assertEqual([f["others"] for f in left if f["subject"] == "api-01"], [["db-book-01"]])
        asked["others"] = ["nobody"]
        self.problem(self.browser.send("POST", f"{BOOK}/mend", {"plan": plan, **asked}), 409, "refused")

    def test_what_no_change_mends_is_refused(self) -> None:
        asked = {"plan": self.draft("BOOK"), "code": "never-tested", "subject": "x"}
        self.problem(self.browser.send("POST", f"{BOOK}/mend", asked), 409, "refused")

    def test_a_plan_is_begun_from_a_template(self) -> None:
        made = self.browser.get("/api/v1/plan-templates").json()["templates"]
        self.assertIn("tiers", [one["key"] for one in made])
        asked = {"workloads": ["web-01", "db-book-01", "db-book-02", "rig-01"], "template": "tiers"}
        said = self.browser.send("POST", "/plan-suggestions", asked).json()
        waves = {p["workload"]: (p["wave"], p["reason"]) for p in said["pieces"] if p["kind"] == "wave"}
        self.assertEqual(waves["db-book-01"], (1, "matches tier=data"))
        self.assertEqual(waves["rig-01"], (3, "matches no rule of the template"))
        waits = [(p["workload"], p["on"]) for p in said["pieces"] if p["kind"] == "dependency"]
        self.assertEqual(waits, [("db-book-02", "db-book-01")])
        wrong = self.browser.send("POST", "/plan-suggestions", {"workloads": [], "template": "none"})
        self.problem(wrong, 404, "not-found")

    def test_other_limits_give_another_forecast_and_silly_ones_are_refused(self) -> None:
        plan = self.draft("ALL")
        slow = self.judged(plan, limits={"power": 1, "copies": 1, "clones": 1})["forecast"]["p50_s"]
        self.assertGreater(slow, self.judged(plan)["forecast"]["p50_s"] + 10)
        body = {"plan": plan, "based_on": 1, "limits": {"power": 0, "copies": 1, "clones": 1}}
        reply = self.browser.send("POST", "/plans/ALL/assessment", body)
        self.assertEqual(self.problem(reply, 400, "bad-value")["field"], "body.limits.power")

    def test_any_two_versions_are_compared(self) -> None:
        plan = self.draft("HARB")
        for number, delay in ((1, 30), (2, 50)):
            plan["waves"][0]["members"][0]["delay_s"] = delay
            saved = self.browser.send(
                "PUT", "/plans/HARB", {"plan": plan}, **{"If-Match": f'"HARB-{number}"'}
            )
            self.assertEqual(saved.status_code, 201)
        for query, said in (("", "50 s longer"), ("?against=2", "30 s longer")):
            view = self.browser.get(f"/api/v1/plans/HARB/versions/1{query}").json()
            self.assertEqual(view["changes"], [f"time-01 waits {said}"])
        back = self.browser.get("/api/v1/plans/HARB/versions/3?against=2").json()
        self.assertEqual((back["against"], back["changes"]), (2, ["time-01 waits 20 s less"]))
        self.problem(self.browser.get("/api/v1/plans/HARB/versions/1?against=9"), 404, "not-found")
        self.problem(self.browser.get("/api/v1/plans/HARB/versions/1?against=x"), 400, "bad-value")

    def test_a_cue_that_cannot_be_is_not_saved(self) -> None:
        plan = self.draft("BOOK")
        plan["cues"] = [{"id": "x", "title": "X"}]
        reply = self.browser.send("PUT", BOOK, {"plan": plan}, **{"If-Match": '"BOOK-1"'})
        self.assertIn("is of no kind", self.problem(reply, 409, "cue-malformed")["detail"])


class Ahead(Authoring):
    """What would help, how good forecasts were, rehearsals, the run book."""

    history = True

    def test_each_help_is_worked_out_and_those_of_the_plan_can_be_taken(self) -> None:
        plan = self.draft("BOOK")
        helps = self.browser.send("POST", f"{BOOK}/helps", {"plan": plan, "based_on": 1}).json()["helps"]
        self.assertTrue(helps)
        saves = [one["saves_s"] for one in helps]
        self.assertEqual(saves, sorted(saves, reverse=True))
        now = self.judged(plan)["forecast"]["p50_s"]
        taken = next(one for one in helps if one["plan"] is not None)
        then = self.judged(taken["plan"])["forecast"]["p50_s"]
        self.assertAlmostEqual(now - then, taken["saves_s"], delta=1.0)

    def test_forecasts_are_compared_with_what_happened(self) -> None:
        said = self.browser.get(f"/api/v1{BOOK}/calibration").json()
        self.assertEqual([run["inside"] for run in said["runs"]], [True, False])
        self.assertIn("Of 2 runs 1 ended inside", said["sentence"])
        self.assertIn("No run", self.browser.get("/api/v1/plans/ALL/calibration").json()["sentence"])

    def rehearse(self, fault: str = "none", subject: str = "") -> dict[str, Any]:
        body = {"plan": self.draft("BOOK"), "fault": fault, "subject": subject}
        reply = self.browser.send("POST", f"{BOOK}/rehearsal", body)
        self.assertEqual(reply.status_code, 200, reply.content)
        said: dict[str, Any] = reply.json()
        return said

    def test_a_rehearsal_shows_what_would_happen_and_leaves_no_run(self) -> None:
        before = len(self.browser.get("/api/v1/runs").json()["runs"])
        said = self.rehearse()
        self.assertEqual((said["outcome"], said["failures"], said["remains"]), ("passed", [], []))
        self.assertIn("nothing failed", said["sentence"])
        self.assertTrue(any(step["finish_s"] for step in said["steps"]))
        self.assertEqual(len(self.browser.get("/api/v1/runs").json()["runs"]), before)

    def test_faults_of_choice_happen(self) -> None:
        hung = self.rehearse("boot-hangs", "web-02")
        self.assertEqual((hung["outcome"], len(hung["failures"])), ("passed", 1))
        dead = self.rehearse("never-boots", "web-02")
        self.assertEqual(dead["outcome"], "failed")
        self.assertIn("had to be left out", dead["sentence"])
        leak = self.rehearse("sandbox-leaks")
        self.assertEqual((leak["outcome"], leak["remains"]), ("aborted", []))
        slow, usual = self.rehearse("site-slow"), self.rehearse()
        self.assertGreater(slow["ready_s"], usual["ready_s"])
        body = {"plan": self.draft("BOOK"), "fault": "boot-hangs", "subject": "nobody"}
        self.problem(self.browser.send("POST", f"{BOOK}/rehearsal", body), 400, "bad-value")

    def test_a_draft_that_cannot_run_is_not_rehearsed(self) -> None:
        plan = self.draft("BOOK")
        plan["waves"][0]["members"] = [{"workload": "ghost"}]
        body = {"plan": plan, "fault": "none"}
        self.problem(self.browser.send("POST", f"{BOOK}/rehearsal", body), 409, "workload-unknown")

    def test_the_run_book_says_everything_and_takes_no_html_from_people(self) -> None:
        plan = from_data(Plan, self.draft("BOOK"))
        plan = replace(
            plan, notes="Call **the desk** <script>alert(1)</script> ![x](http://host.example/p.png)"
        )
        body = {"plan": to_data(plan)}
        self.assertEqual(self.browser.send("PUT", BOOK, body, **{"If-Match": '"BOOK-1"'}).status_code, 201)
        text = self.browser.get(f"/api/v1{BOOK}/run-book").content.decode()
        for wanted in (
            "<strong>the desk</strong>",
            "10.20.6.11/24 → 172.18.6.11/24",
            "wait on the line",
            "booking team",
        ):
            self.assertIn(wanted, text)
        self.assertNotIn("<script", text)
        self.assertNotIn("<img", text)
        pdf = self.browser.get(f"/api/v1{BOOK}/run-book.pdf")
        self.assertEqual(pdf.headers["Content-Type"], "application/pdf")
        assert_tagged(self, pdf.content)

    def test_the_board_says_of_every_kind_of_run_what_is_in_its_way(self) -> None:
        Site.objects.filter(code="QUA").update(agent_url="http://127.0.0.1:9")
        cache.clear()
        plans = {plan["code"]: plan for plan in self.browser.get("/api/v1/readiness").json()["plans"]}
        kinds = {one["kind"]: one for one in plans["BOOK"]["kinds"]}
        self.assertEqual(list(kinds), ["test", "planned", "disaster"])
        self.assertEqual((kinds["test"]["blocking"], kinds["disaster"]["blocking"]), ([], []))
        self.assertIn("QUA does not answer", kinds["planned"]["blocking"][0])
        self.assertGreater(kinds["disaster"]["warns"], kinds["test"]["warns"])

    def test_a_proof_goes_stale_when_the_estate_changes(self) -> None:
        row = next(p for p in self.browser.get("/api/v1/readiness").json()["plans"] if p["code"] == "HARB")
        self.assertEqual(row["stale"], [])
        detail = self.browser.get("/api/v1/workloads/ca-01")
        known = detail.json()["workload"]
        known["memory_mib"] += 4096
        wanted = {"If-Match": detail.headers["ETag"]}
        saved = self.browser.send("PUT", "/workloads/ca-01", {"workload": known}, **wanted)
        self.assertLess(saved.status_code, 300, saved.content)
        board = self.browser.get("/api/v1/readiness").json()
        row = next(p for p in board["plans"] if p["code"] == "HARB")
        self.assertEqual(len(row["stale"]), 2)
        self.assertIn("ca-01 (memory)", row["stale"][0] + row["stale"][1])
        self.assertIn(
            "The proof of Harbour core first is stale", [action["title"] for action in board["actions"]]
        )


class Telling(Authoring):
    """What notify cues say reaches everybody."""

    def test_everybody_sees_it_while_the_run_goes_on(self) -> None:
        plan = self.draft("HARB")
        plan["cues"] = [{"id": "n", "title": "Told", "at": "after", "notify": {"text": "Harbour is up."}}]
        now = SystemClock().now()
        ctx = context(from_data(Plan, plan), 1, now)
        world = World(SCENARIO.spec("HIL", now - timedelta(days=1)), now - timedelta(days=1), past=False)
        world.advance(now.timestamp())
        newest = {group: world.points(group)[-1] for group in world.replication.copying}

        def play(inputs: RunInputs, start: Any) -> list[Event]:
            rehearsal = Rehearsal("told", inputs, {inputs.plan.target: world}, start, "ann")

            def person(state: RunState) -> tuple[Draft, float] | None:
                return None if "verdict" in state.persons else judge(state)

            rehearsal.play(person)
            return rehearsal.log

        record_played_run(replace(ctx, newest=newest), Options(points={}), by="ann", at=now, play=play)
        told = self.browser.get("/api/v1/site-line").json()["told"]
        self.assertEqual(
            [(one["plan_name"], one["text"]) for one in told], [("Harbour core first", "Harbour is up.")]
        )
