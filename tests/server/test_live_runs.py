"""Live runs on the demo data: what their events do to groups, estate and fences, and what comes next.

The runs are played in virtual time on worlds of the scenario, and written through the same writer as the
engine's; fences, re-protects and the practice lab speak to real practice sites.
"""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from unittest import mock

from django.core.cache import cache
from django.db import transaction

from maestoso.core.planning.inputs import LiveChoices, RunInputs
from maestoso.core.readiness.assess import Options
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.state import RunState
from maestoso.engine.clock import SystemClock
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.world import World
from maestoso.server.estate import agents
from maestoso.server.estate.agents import ask
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.snapshot import estate
from maestoso.server.keeper import tasks
from maestoso.server.keeper.tasks import listen
from maestoso.server.outbox import services as outbox
from maestoso.server.outbox.services import deliver_waiting
from maestoso.server.plans.services import find_plan
from maestoso.server.protection.models import GroupRow
from maestoso.server.readiness.starts import follow_ups, record_played_run
from maestoso.server.readiness.surroundings import context
from maestoso.server.runs import events, stream
from maestoso.server.runs.fences import DELIVERED
from maestoso.server.runs.log import write_events
from maestoso.server.runs.models import KeptFence, Run
from maestoso.server.runs.projection import check_projection
from maestoso.server.runs.whereabouts import running
from maestoso.sites.client import HttpSite
from maestoso.sites.contract import UnderWay
from maestoso.sites.verbs import VERBS
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, SCENARIO, Browser, Tidewell
from tests.worlds import decide_for

CLOCK = SystemClock()
BOOKING = ("harbour", "booking-db", "booking-app")


class Live(Tidewell):
    """Plays live runs."""

    def play(
        self, plan: str, kind: Any, decision: str = "commit", *, lost: bool = False, person: Any = None,
        **choices: Any,
    ) -> Run:  # fmt: skip
        """A whole run; ``lost``: the source does not answer."""
        now = CLOCK.now()
        version = find_plan(plan).version()
        begin = now - timedelta(hours=3)
        ends = (version.core().source, version.core().target)
        worlds = {code: World(SCENARIO.spec(code, begin), begin, past=False) for code in ends}
        for world in worlds.values():
            world.advance(now.timestamp())
        target = worlds[ends[1]]
        newest = {group: target.points(group)[-1] for group in target.replication.copying}
        ctx = context(version.core(), version.number, now, newest)
        live = LiveChoices(**choices)
        options = Options(points={}, kind=kind, live=live, sync_first=kind == "planned", pace=20.0)

        def played(inputs: RunInputs, start: datetime) -> list[Event]:
            there = {ends[1]: target} if lost else worlds
            self.rehearsal = Rehearsal(f"test-{inputs.mark}", inputs, there, start, "ann")
            self.rehearsal.play(person or decide_for(decision))
            return list(self.rehearsal.log)

        run = record_played_run(ctx, options, by="ann", at=now, play=played)
        self.assertEqual(check_projection(run), [])
        return run

    def undecided(self, plan: str, kind: Any, **choices: Any) -> Run:
        """A run that waits for its decision."""
        helped = decide_for("commit")
        return self.play(
            plan, kind, person=lambda s: None if "decision" in s.persons else helped(s), **choices
        )

    def go_on(self, run: Run, decision: str) -> None:
        """What was left waiting for the decision is played to its end, and written as the engine writes it."""
        written = len(self.rehearsal.log)
        self.rehearsal.play(decide_for(decision))
        with transaction.atomic():
            write_events(
                Run.objects.select_for_update().get(pk=run.pk), self.rehearsal.log[written:], fence=1
            )
        run.refresh_from_db()

    def left_off(self) -> set[str]:
        """Workloads that Quayside was told to fence and not to lift the fence of, by its journal."""
        entries = ask(Site.objects.get(code="QUA"), lambda agent: agent.journal())
        last = {
            entry["subject"]: entry["verb"] for entry in entries if entry["verb"] in ("fence", "lift-fence")
        }
        return {name for name, verb in last.items() if verb == "fence"}

    def stages(self, *codes: str) -> set[tuple[str, str, str]]:
        """Source, target and stage of groups."""
        rows = GroupRow.objects.filter(code__in=codes or BOOKING)
        return set(rows.values_list("source__code", "target__code", "stage"))

    def actions(self) -> list[dict[str, Any]]:
        """What the readiness board offers next."""
        found: list[dict[str, Any]] = self.browser.get("/api/v1/readiness").json()["actions"]
        return found


class Consequences(Live):
    def test_committed_the_workloads_are_at_home_at_the_target(self) -> None:
        before = WorkloadRow.objects.get(name="db-book-01").core()
        run = self.play("BOOK", "planned")
        self.assertEqual(run.outcome, "committed")
        self.assertEqual(self.stages(), {("HIL", "QUA", "running committed")})
        row = WorkloadRow.objects.get(name="db-book-01")
        self.assertEqual((row.site.code, row.home["site"]), ("HIL", "QUA"))
        self.assertNotEqual(row.core().nics[0].addresses, before.nics[0].addresses)
        self.assertEqual(row.core().nics[0].network, "hil-data")
        self.assertEqual(WorkloadRow.objects.get(name="time-01").site.code, "QUA")

    def test_what_the_target_took_as_its_own_is_at_home_there_though_the_run_waits_for_a_lost_source(
        self,
    ) -> None:
        run = self.undecided("BOOK", "disaster", lost=True)
        written = len(self.rehearsal.log)
        self.rehearsal.play(decide_for("commit"))
        rest = self.rehearsal.log[written:]
        adopted = 1 + next(
            n for n, one in enumerate(rest) if one.data.get("step") == "adopt:run" and "done" in one.kind
        )
        revisions = []
        for part in (rest[:adopted], rest[adopted:]):
            with transaction.atomic():
                write_events(Run.objects.select_for_update().get(pk=run.pk), part, fence=1)
            self.assertEqual(self.stages(), {("HIL", "QUA", "running committed")})
            row = WorkloadRow.objects.get(name="db-book-01")
            self.assertEqual((row.site.code, row.home["site"]), ("HIL", "QUA"))
            revisions.append(row.revision)
            run.refresh_from_db()
            self.assertEqual(bool(run.outcome), len(revisions) == 2)
        self.assertEqual(revisions[0], revisions[1], "it arrives once")

    def test_the_board_offers_what_comes_next_and_other_plans_say_why_they_cannot(self) -> None:
        self.play("BOOK", "planned")
        first = self.actions()[0]
        self.assertEqual((first["label"], first["to"]), ("Re-protect", "/plans/BOOK/start?kind=re-protect"))
        plans = {plan["code"]: plan for plan in self.browser.get("/api/v1/readiness").json()["plans"]}
        self.assertEqual((plans["BOOK"]["source"], plans["BOOK"]["target"]), ("HIL", "QUA"))
        said = " ".join(finding["sentence"] for finding in plans["HARB"]["findings"])
        self.assertIn("Harbour core runs at HIL now", said)
        offered = self.browser.send("POST", "/plans/BOOK/preflight", {"kind": "re-protect"}).json()
        self.assertEqual(offered["blocking"], [])
        why = {kind["kind"]: kind["why_not"] for kind in offered["kinds"]}
        self.assertIn("Re-protect it first", why["planned"])
        self.assertEqual(why["re-protect"], "")

    def test_what_a_run_was_made_from_is_read_once_and_not_for_every_batch(self) -> None:
        run = self.undecided("HARB", "planned")
        written = len(self.rehearsal.log)
        self.rehearsal.play(decide_for("commit"))
        with mock.patch.object(events, "inputs_in", wraps=events.inputs_in) as read:
            for event in self.rehearsal.log[written:]:
                write_events(Run.objects.get(pk=run.pk), [event], fence=1)
        self.assertGreater(len(self.rehearsal.log) - written, 3)
        self.assertLessEqual(read.call_count, 1)

    def test_what_a_site_was_asked_and_said_can_be_read(self) -> None:
        run = self.play("BOOK", "planned")
        asked = self.browser.get(f"/api/v1/runs/{run.pk}/step?step=promote:booking-db").json()
        self.assertEqual((asked["verb"], asked["site"]), ("promote", "HIL"))
        self.assertEqual(set(asked["args"]["contents"]), {"db-book-01", "db-book-02", "broker-01"})
        self.assertEqual([attempt["outcome"] for attempt in asked["attempts"]], ["done"])
        self.assertEqual(asked["attempts"][0]["result"]["behind"], [])
        self.problem(self.browser.get(f"/api/v1/runs/{run.pk}/step?step=dance"), 404, "not-found")

    def test_rolled_back_everything_is_as_before(self) -> None:
        run = self.play("BOOK", "planned", "roll-back")
        self.assertEqual(run.outcome, "rolled back")
        self.assertEqual(self.stages(), {("QUA", "HIL", "protected")})
        self.assertEqual(WorkloadRow.objects.get(name="db-book-01").site.code, "QUA")

    def test_aborted_before_it_was_up_it_is_called_off(self) -> None:
        def abort(state: RunState) -> tuple[Draft, float] | None:
            if state.persons and state.aborted_because is None:
                return Draft(kind="run.aborted", data={"reason": "Enough."}, by="ann"), 5.0
            return None

        run = self.play("BOOK", "planned", person=abort)
        self.assertEqual((run.outcome, self.stages()), ("aborted", {("QUA", "HIL", "protected")}))

    def test_while_it_waits_for_the_decision_it_runs_uncommitted(self) -> None:
        run = self.undecided("BOOK", "planned")
        self.assertEqual(self.stages(), {("QUA", "HIL", "running uncommitted")})
        status = self.browser.get(f"/api/v1/runs/{run.pk}").json()["status"]
        self.assertEqual([need["kind"] for need in status["needs"]], ["decision"])
        self.assertEqual({g["writable"] for g in status["groups"]}, {"HIL"})
        self.assertTrue(all(outage["to_s"] for outage in status["outages"]))
        there = {code: len(names) for code, names in running(estate().rows, {}).items()}
        self.assertEqual((there["QUA"], there["HIL"]), (24, 13))
        # What a site counts itself is what the site line says: this run was played elsewhere.
        line = self.browser.get("/api/v1/site-line").json()
        self.assertEqual({s["code"]: s["running"] for s in line["stations"]}, {"QUA": 35, "HIL": 2, "NOR": 2})
        refused = self.browser.send(
            "POST", f"/runs/{run.pk}/controls", {"kind": "change-point", "group": "harbour", "point": "x"}
        )
        self.problem(refused, 400, "bad-value")

    def test_a_relocation_ends_the_protection(self) -> None:
        self.play("REPT", "planned", at_commit="end-protection")
        self.assertFalse(GroupRow.objects.filter(code="reporting").exists())
        self.assertEqual(WorkloadRow.objects.get(name="ware-01").site.code, "NOR")

    def test_another_run_with_the_same_workloads_is_refused_by_name(self) -> None:
        self.play("BOOK", "planned", person=lambda state: None)
        body = {"plan": "HARB", "options": {"pace": 20}}
        reply = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "k"})
        self.assertIn("Booking end to end", self.problem(reply, 409, "run-in-the-way")["detail"])


class BadInput(Tidewell):
    def test_every_wrong_choice_names_its_field_and_nothing_is_written(self) -> None:
        future = (CLOCK.now() + timedelta(hours=1)).isoformat()
        cases: list[tuple[dict[str, Any], str]] = [
            ({"kind": "swim"}, "kind"),
            ({"kind": "planned", "pace": 0}, "pace"),
            ({"kind": "planned", "pace": "fast"}, "pace"),
            ({"kind": "planned", "decide_within_s": -1}, "decide_within_s"),
            ({"kind": "planned", "decide_within_s": 10**9}, "decide_within_s"),
            ({"kind": "planned", "then": "think"}, "then"),
            ({"kind": "planned", "at_commit": "dance"}, "at_commit"),
            ({"kind": "disaster", "declared_at": future}, "declared_at"),
            ({"kind": "disaster", "declared_at": "2026-11-01T10:00:00"}, "declared_at"),
            ({"kind": "disaster", "declared_at": "yesterday"}, "declared_at"),
            ({"kind": "disaster", "points": {"harbour": "nothing"}}, "points.harbour"),
            ({"kind": "disaster", "points": {"nobody": "x"}}, "points"),
            ({"kind": "disaster", "points": 7}, "points"),
            ({"kind": "planned", "speed": 1}, "speed"),
        ]
        for number, (options, field) in enumerate(cases):
            with self.subTest(options=options):
                body = {"plan": "BOOK", "confirm": "BOOK", "options": options}
                reply = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": f"bad-{number}"})
                said = self.problem(reply, 400, "bad-value")
                self.assertTrue(said["field"].endswith(field), said["field"])
                preflight = self.browser.send("POST", "/plans/BOOK/preflight", options)
                self.assertEqual(preflight.status_code, 400)
        self.assertEqual(Run.objects.count(), 0)


class Choices(Live):
    def preflight(self, **options: Any) -> Any:
        body = {"kind": "disaster", "pace": 20, **options}
        return self.browser.send("POST", "/plans/BOOK/preflight", body)

    def points(self) -> dict[str, list[str]]:
        """Ids of the points of each group of Booking, oldest first."""
        groups = self.browser.get("/api/v1/plans/BOOK/points").json()["groups"]
        return {group["group"]: [point["id"] for point in group["points"]] for group in groups}

    def test_a_single_workload_from_another_point_is_warned_of_and_kept_in_the_log(self) -> None:
        older = self.points()["booking-db"][-6]
        found = self.preflight(apart={"db-book-02": older}).json()["assessment"]["findings"]
        (warned,) = [one for one in found if one["code"] == "points-apart"]
        self.assertEqual((warned["severity"], warned["subject"]), ("warns", "db-book-02"))
        body = {"plan": "BOOK", "options": {"pace": 20, "apart": {"db-book-02": older}}}
        pk = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "apart"}).json()["id"]
        asked = self.browser.get(f"/api/v1/runs/{pk}/step?step=clone-point:db-book-02").json()["args"]
        self.assertEqual(asked["point"], older)
        self.assertNotEqual(
            self.browser.get(f"/api/v1/runs/{pk}/step?step=clone-point:db-book-01").json()["args"]["point"],
            older,
        )
        report = self.browser.get(f"/api/v1/runs/{pk}/report.json").json()
        self.assertEqual([list(group["apart"]) for group in report["groups"]].count(["db-book-02"]), 1)

    def test_points_that_are_no_exception_or_cannot_be_are_refused(self) -> None:
        points = self.points()
        newest = {code: listed[-1] for code, listed in points.items()}
        same = self.preflight(points=newest, apart={"db-book-01": newest["booking-db"]}).json()
        self.assertNotIn("points-apart", [one["code"] for one in same["assessment"]["findings"]])
        for wrong in (
            {"apart": {"nobody": newest["harbour"]}},
            {"apart": {"db-book-01": newest["harbour"]}},
            {"apart": {"db-book-01": points["booking-db"][-3]}, "kind": "planned"},
        ):
            with self.subTest(wrong=wrong):
                body = self.problem(self.preflight(**wrong), 400, "bad-value")
                self.assertTrue(body["field"].startswith("body.apart"), body)

    def test_cutting_power_is_said_before_it_is_started(self) -> None:
        said = " ".join(self.preflight(kind="planned", force_after_s=90).json()["consequences"])
        self.assertIn("A guest that is not down within 90 s loses its power.", said)
        for wrong in (-1, 86_401):
            body = self.problem(self.preflight(kind="planned", force_after_s=wrong), 400, "bad-value")
            self.assertEqual(body["field"], "body.force_after_s")

    def test_who_is_to_be_told_hears_of_the_start_of_needs_and_of_the_end(self) -> None:
        def told(browser: Browser) -> list[str]:
            return [one["text"] for one in browser.get("/api/v1/site-line").json()["told"]]

        ben = Browser()
        ben.sign_in("ben")
        body = {"plan": "HARB", "options": {"pace": 20, "tell": ["ben"]}}
        pk = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "tell"}).json()["id"]
        self.browser.send("POST", f"/runs/{pk}/controls", {"kind": "hold", "text": "wait"})
        self.assertEqual(told(ben), ["ann started a test run", "The run is held"])
        self.assertEqual(told(self.browser), [])
        Run.objects.filter(pk=pk).update(outcome="passed", ended_at=CLOCK.now())
        self.assertEqual(told(ben), ["the test run ended: passed"])
        for nobody in ("nobody", "role:nothing"):
            body["options"] = {"pace": 20, "tell": [nobody]}
            refused = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "x"})
            self.assertEqual(self.problem(refused, 400, "bad-value")["field"], "body.options.tell")
        make_person("olga", PASSWORD, roles=("operator",))
        body["options"] = {"pace": 20, "tell": ["ben", "role:operator", "role:approver"]}
        pk = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "roles"}).json()["id"]
        self.assertEqual(Run.objects.get(pk=pk).tell, ["ben", "olga"], "whoever has the role now")


class Fences(Live):
    def test_what_could_not_be_confirmed_is_kept_and_delivered(self) -> None:
        run = self.play("BOOK", "disaster", lost=True, go_on=True)
        self.assertEqual(run.outcome, "committed")
        self.assertEqual(KeptFence.objects.filter(run=run).exclude(DELIVERED).count(), 11)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(KeptFence.objects.filter(run=run).exclude(DELIVERED).count(), 0)
        # The practice site had them running: two live copies, and the board says so before all else.
        first = self.actions()[0]
        self.assertIn("ran at Quayside as well", first["title"])
        status = self.browser.get(f"/api/v1/runs/{run.pk}").json()["status"]
        self.assertEqual(len(status["found_running"]), 11)
        reply = self.browser.send("POST", f"/runs/{run.pk}/found-running/seen", {})
        self.assertEqual(reply.json()["found_running"], [])
        self.assertNotIn("as well", self.actions()[0]["title"])
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(set(KeptFence.objects.values_list("seen_by", flat=True)), {"ann"})

    def test_what_was_fenced_since_is_said_to_be_so(self) -> None:
        run = self.undecided("BOOK", "disaster", lost=True, go_on=True)

        def fenced() -> int:
            said = self.browser.get(f"/api/v1/runs/{run.pk}").json()["status"]
            return sum(group["fenced"] for group in said["groups"])

        self.assertEqual(fenced(), 0)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(fenced(), 11)
        self.go_on(run, "roll-back")
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)

    def test_a_source_that_was_left_alone_is_fenced_in_the_end(self) -> None:
        run = self.play("BOOK", "disaster", lost=True, go_on=True, close_down=False)
        self.assertEqual(run.outcome, "committed")
        self.assertEqual(KeptFence.objects.filter(run=run).count(), 11)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(KeptFence.objects.exclude(DELIVERED).count(), 0)

    def test_rolled_back_what_was_not_delivered_is_not_wanted_any_more(self) -> None:
        run = self.play("BOOK", "disaster", "roll-back", lost=True, go_on=True)
        self.assertEqual((run.outcome, KeptFence.objects.count()), ("rolled back", 0))

    def test_rolled_back_what_was_delivered_is_lifted(self) -> None:
        run = self.undecided("BOOK", "disaster", lost=True, go_on=True)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(KeptFence.objects.filter(DELIVERED).count(), 11)
        self.go_on(run, "roll-back")
        self.assertEqual(run.outcome, "rolled back")
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(KeptFence.objects.count(), 0)
        self.assertEqual(self.left_off(), set())


class FencesMeanwhile(Live):
    def test_a_fence_that_failed_once_is_asked_for_anew(self) -> None:
        run = self.undecided("BOOK", "disaster", lost=True, go_on=True)
        site = Site.objects.get(code="QUA")
        fault = {"verb": "fence", "subject": "*", "effect": "fail", "times": 1, "code": "busy", "reason": "x"}
        ask(site, lambda agent: agent.practise("faults", fault))
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(KeptFence.objects.filter(run=run).exclude(DELIVERED).count(), 1)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(KeptFence.objects.filter(run=run).exclude(DELIVERED).count(), 0)
        self.go_on(run, "roll-back")
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual((KeptFence.objects.count(), self.left_off()), (0, set()))

    def test_rolled_back_while_one_is_being_delivered_it_is_lifted_too(self) -> None:
        run = self.undecided("BOOK", "disaster", lost=True, go_on=True)

        def slow(site: Site, *asked: Any) -> Any:
            said = ask(site, *asked)
            if run.outcome == "":
                self.go_on(run, "roll-back")
            return said

        with mock.patch.object(outbox, "ask", slow):
            deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(run.outcome, "rolled back")
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(self.left_off(), set())


class UnderWayNow(Live):
    def test_how_far_a_step_is_stands_in_its_run_and_is_news_of_it(self) -> None:
        run = self.undecided("BOOK", "planned")
        said = agents.pulse(Site.objects.get(code="HIL"))
        key = f"{events.run_name(run.pk)}:final-sync:harbour:1"

        def told(done: int) -> Any:
            far = UnderWay(key=key, done_bytes=done * 2**30, total_bytes=8 * 2**30, rate_bps=2.0**29)
            other = replace(far, key="another:final-sync:harbour:1")
            pulse = replace(said, said=replace(said.said, under_way=(other, far)))
            return mock.patch("maestoso.server.runs.under_way.pulse_at_hand", return_value=pulse)

        heads = []
        for done in (0, 6, 6):
            with told(done):
                heads.append(stream._beside([run.pk]))
                status = self.browser.get(f"/api/v1/runs/{run.pk}").json()["status"]
        self.assertEqual(
            status["under_way"], {"final-sync:harbour": "6 GiB of 8 GiB, at 4.29 Gbit/s, 4 s left"}
        )
        self.assertEqual([heads[0] == heads[1], heads[1] == heads[2]], [False, True])

    def test_nobody_waits_for_a_site_to_know_it(self) -> None:
        site = Site.objects.get(code="HIL")
        cache.clear()
        asked = threading.Event()
        with mock.patch.object(agents, "_take_pulse", side_effect=lambda *about: asked.set()):
            self.assertIsNone(agents.pulse_at_hand(site))
            self.assertTrue(asked.wait(10))
            asked.clear()
            self.assertIsNone(agents.pulse_at_hand(site))
            self.assertFalse(asked.is_set(), "one who asks is enough")
        cache.clear()


class LostMemory(Live):
    def tearDown(self) -> None:
        self.browser.send("DELETE", "/practice-lab", None)
        super().tearDown()

    def hear(self) -> None:
        """What the keeper hears of all sites."""
        cache.clear()
        for site in Site.objects.all():
            listen(site, CLOCK)

    def test_people_are_told_until_somebody_looked_and_fences_are_asked_for_again(self) -> None:
        self.hear()
        run = self.play("BOOK", "disaster", lost=True, go_on=True)
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(run.kept_fences.filter(DELIVERED).count(), 11)
        self.assertNotIn("memory", " ".join(one["title"] for one in self.actions()))
        broken = self.browser.send("POST", "/practice-lab", {"site": "QUA", "preset": "forgets"})
        self.assertEqual(broken.status_code, 200, broken.content[:300])
        self.hear()
        self.assertEqual(run.kept_fences.filter(DELIVERED).count(), 0)
        self.assertIn("The agent of Quayside has lost its memory", [one["title"] for one in self.actions()])
        deliver_waiting(Site.objects.get(code="QUA"), CLOCK)
        self.assertEqual(run.kept_fences.filter(DELIVERED).count(), 11)
        self.hear()
        self.assertEqual(run.kept_fences.filter(DELIVERED).count(), 11)
        seen = self.browser.send("POST", "/sites/QUA/forgot/seen", None)
        self.assertIsNone(seen.json()["forgot_at"])
        self.assertNotIn("memory", " ".join(one["title"] for one in self.actions()))

    def test_an_agent_that_says_no_epoch_has_lost_nothing_that_anybody_knows_of(self) -> None:
        self.hear()
        site = Site.objects.get(code="HIL")
        said = agents.pulse(site)
        silent = replace(said, said=replace(said.said, epoch=""))
        with mock.patch.object(tasks, "pulse", return_value=silent):
            listen(site, CLOCK)
        site.refresh_from_db()
        self.assertIsNone(site.forgot_at)
        self.assertTrue(site.epoch)

    def test_a_site_is_silent_since_it_was_heard_last_and_not_since_it_was_given_up(self) -> None:
        site, heard = Site.objects.get(code="HIL"), CLOCK.now() - timedelta(seconds=40)
        # Slow at first, when what it said before stands; then lost.
        before = replace(agents.pulse(site), heard=heard)
        for taken in (before, before, agents.Pulse(lost_because="No answer within 15 s.")):
            with mock.patch.object(tasks, "pulse", return_value=taken):
                listen(site, CLOCK)
        site.refresh_from_db()
        self.assertEqual(site.silent_since, heard)

    def test_what_an_agent_can_is_asked_anew_when_it_comes_back_and_its_plans_say_what_it_cannot(
        self,
    ) -> None:
        self.hear()
        self.assertEqual({len(site.verbs) for site in Site.objects.all()}, {len(VERBS)})
        less = {"verbs": [verb for verb in VERBS if verb not in ("promote", "adopt")]}
        with mock.patch.object(HttpSite, "capabilities", mock.AsyncMock(return_value=less)) as asked:
            self.hear()
            asked.assert_not_called()
            self.browser.send("POST", "/practice-lab", {"site": "HIL", "preset": "forgets"})
            self.hear()
        for kind, in_the_way in (("test", []), ("planned", ["HIL"])):
            judged = self.browser.send("POST", "/plans/BOOK/preflight", {"kind": kind}).json()
            blocking = [one for one in judged["blocking"] if one["code"] == "agent-lacks-verbs"]
            self.assertEqual([one["subject"] for one in blocking], in_the_way)
        self.assertIn("cannot adopt, promote, so production cannot be moved", blocking[0]["sentence"])
        Site.objects.filter(code="HIL").update(silent_since=CLOCK.now())
        self.hear()
        self.assertEqual(len(Site.objects.get(code="HIL").verbs), len(VERBS))

    def test_the_first_epoch_that_is_heard_is_no_loss(self) -> None:
        self.hear()
        self.assertEqual(Site.objects.filter(epoch="").count(), 0)
        self.assertEqual(Site.objects.exclude(forgot_at=None).count(), 0)


class Reprotects(Live):
    def test_a_commit_that_asked_for_it_is_followed_by_one(self) -> None:
        run = self.play("BOOK", "planned", at_commit="re-protect")
        self.assertEqual(run.follow_up, "re-protect")
        follow_ups(CLOCK)
        follow_ups(CLOCK)
        made = Run.objects.get(kind="re-protect")
        self.assertEqual((made.source, made.target, made.started_by), ("HIL", "QUA", "ann"))
        self.assertEqual(self.stages(), {("HIL", "QUA", "re-protecting")})
        self.assertEqual(Run.objects.get(pk=run.pk).follow_up, "")

    def test_without_anything_to_protect_again_it_is_refused(self) -> None:
        body = {"plan": "BOOK", "options": {"kind": "re-protect"}}
        reply = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "k"})
        self.assertEqual(
            self.problem(reply, 409, "preflight-blocks")["findings"][0]["code"], "nothing-to-reprotect"
        )
