"""Runs over the API, and their rows."""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from unittest import mock

from django.core.cache import cache
from django.db import OperationalError, connection

from maestoso.core.readiness.assess import assess
from maestoso.core.runs.progress import measures
from maestoso.core.runs.state import fold
from maestoso.server.common import deadlocks
from maestoso.server.estate import agents
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import mark_changed
from maestoso.server.plans.models import PlanRow
from maestoso.server.protection.picture import group_points
from maestoso.server.readiness import starts
from maestoso.server.runs.events import inputs_of, read_log
from maestoso.server.runs.log import write_events
from maestoso.server.runs.measured import MOST_MEASURED, measured
from maestoso.server.runs.models import Run, RunEvent, RunStep
from maestoso.server.runs.projection import check_projection
from tests.server.tidewell import Tidewell


class Starting(Tidewell):
    """A test is started once, or refused in words."""

    def start(self, key: str = "k1", plan: str = "HARB", confirm: str = "", **options: Any) -> Any:
        """Start a test, or what the options say."""
        body = {"plan": plan, "confirm": confirm, "options": {"pace": 20, **options}}
        return self.browser.send("POST", "/runs", body, **{"Idempotency-Key": key})

    def test_the_same_key_starts_one_run(self) -> None:
        one, two = self.start(), self.start()
        self.assertEqual((one.status_code, two.status_code), (201, 201))
        self.assertEqual(one.json()["id"], two.json()["id"])
        self.assertEqual(Run.objects.count(), 1)

    def test_the_same_key_that_comes_again_while_its_run_begins_starts_one_run(self) -> None:
        find_plan, first = starts.find_plan, []

        def other_first(code: str) -> PlanRow:
            if not first:
                first.append("asked")
                first.append(self.start().json()["id"])
            return find_plan(code)

        with mock.patch.object(starts, "find_plan", other_first):
            again = self.start()
        self.assertEqual((again.status_code, again.json().get("id")), (201, first[-1]), again.content)
        self.problem(self.start("another"), 409, "run-in-the-way")

    def test_a_chosen_point_is_in_the_log(self) -> None:
        groups = self.browser.get("/api/v1/plans/HARB/points").json()["groups"]
        older = next(g for g in groups if g["group"] == "harbour")["points"][-5]
        pk = self.start(points={"harbour": older["id"]}).json()["id"]
        status = self.browser.get(f"/api/v1/runs/{pk}").json()["status"]
        points = {group["group"]: group["point"]["id"] for group in status["groups"]}
        self.assertEqual(points["harbour"], older["id"])
        self.assertEqual(status["phase"], "prepare")

    def test_two_runs_do_not_share_a_workload(self) -> None:
        self.start()
        body = self.problem(self.start("k2", plan="BOOK"), 409, "run-in-the-way")
        self.assertIn("Harbour core first", body["detail"])
        self.assertEqual(self.start("k3", plan="REPT").status_code, 201)

    def test_without_room_for_its_log_nothing_is_started_and_the_board_says_why(self) -> None:
        with mock.patch("maestoso.server.readiness.surroundings.free_mib", lambda: 100):
            body = self.problem(self.start("no-room"), 409, "preflight-blocks")
            self.assertIn("no-room", [finding["code"] for finding in body["findings"]])
            board = self.browser.get("/api/v1/readiness").json()
        self.assertEqual(Run.objects.filter(request_key="no-room").count(), 0)
        (action,) = [one for one in board["actions"] if one["title"] == "Room for records runs out"]
        self.assertIn("Only 100 MiB are free", action["sentence"])
        self.assertEqual(self.start("room-again").status_code, 201)

    def test_what_blocks_is_said_with_its_findings_and_nothing_is_written(self) -> None:
        from maestoso.server.crosswalks.models import CrosswalkRow

        CrosswalkRow.objects.all().delete()
        mark_changed()
        body = self.problem(self.start(), 409, "preflight-blocks")
        self.assertEqual(body["findings"][0]["code"], "crosswalk-missing")
        self.assertEqual((Run.objects.count(), RunEvent.objects.count()), (0, 0))

    def test_a_run_begins_with_the_points_of_now_and_not_of_what_is_remembered(self) -> None:
        site = Site.objects.get(code="HIL")
        said = agents.pulse(site)
        oldest = {state.group: group_points(site, state.group)[0][0] for state in said.said.groups}
        groups = tuple(replace(state, newest=oldest[state.group]) for state in said.said.groups)
        remembered = replace(said, said=replace(said.said, groups=groups))
        cache.set(agents._pulse_key(site), remembered, 600)
        run = Run.objects.get(pk=self.start().json()["id"])
        points = {group.code: group.point for group in inputs_of(run).groups}
        self.assertTrue(points)
        for code, point in points.items():
            self.assertGreater(point.at, oldest[code].at)

    def test_what_was_changed_while_it_was_judged_is_not_started_on(self) -> None:
        judge, row = starts.assess, PlanRow.objects.get(code="HARB")

        seen, often = [], [99]

        def meanwhile(*asked: Any) -> Any:
            judged = judge(*asked)
            seen.append(judged)
            if len(seen) <= often[0]:
                mark_changed()
            return judged

        with mock.patch.object(starts, "assess", meanwhile):
            self.problem(self.start(), 409, "changed-meanwhile")
            self.assertEqual(len(seen), starts.MOST_JUDGED)
            self.assertEqual(Run.objects.filter(plan_code=row.code).count(), 0)
            # Changed once: it is judged anew, and begins.
            seen.clear()
            often[0] = 1
            self.assertEqual(self.start("again").status_code, 201)
        self.assertEqual(len(seen), 2)

    def test_a_start_that_meets_another_change_begins_once_all_the_same(self) -> None:
        met = [OperationalError(1213, "Deadlock")]

        def meets(*asked: Any, **more: Any) -> None:
            write_events(*asked, **more)
            if met:
                raise met.pop()

        with mock.patch.object(starts, "write_events", meets):
            # Inside of a transaction that is not its own it is taken back with that, and is said.
            self.problem(self.start(), 503, "gave-way")
            met += [OperationalError(1213, "Deadlock"), OperationalError(1205, "Lock")]
            with mock.patch.object(deadlocks, "connection", mock.Mock(in_atomic_block=False)):
                self.assertEqual(self.start().status_code, 201)
        self.assertEqual((Run.objects.count(), RunEvent.objects.count(), met), (1, 1, []))

    def test_nothing_is_locked_while_a_run_is_judged(self) -> None:
        depth, seen = len(connection.savepoint_ids), []

        def judged(*asked: Any) -> Any:
            seen.append(len(connection.savepoint_ids))
            return assess(*asked)

        with mock.patch.object(starts, "assess", judged):
            self.assertEqual(self.start().status_code, 201)
        self.assertEqual(seen, [depth])

    def test_bad_keys_and_bodies(self) -> None:
        for key in ("", "x" * 101, "line\tbreak"):
            self.assertEqual(self.problem(self.start(key), 400, "bad-value")["field"], "Idempotency-Key")
        self.problem(self.start(plan="NOPE"), 404, "not-found")
        self.assertEqual(
            self.problem(self.start(kind="swim"), 400, "bad-value")["field"], "body.options.kind"
        )
        unconfirmed = self.problem(self.start(kind="planned", confirm="BOOK"), 400, "bad-value")
        self.assertEqual(unconfirmed["field"], "body.confirm")
        self.assertIn("Type HARB", unconfirmed["remedy"])


class Telling(Tidewell):
    """Controls and reading."""

    def setUp(self) -> None:
        super().setUp()
        body = {"plan": "HARB", "options": {"pace": 20}}
        reply = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "k"})
        self.pk = reply.json()["id"]

    def tell(self, key: str = "", **body: str) -> Any:
        """Say something to the run."""
        headers = {"Idempotency-Key": key} if key else {}
        return self.browser.send("POST", f"/runs/{self.pk}/controls", body, **headers)

    def test_hold_and_resume_are_events_with_the_persons_name(self) -> None:
        status = self.tell(kind="hold", text="wait").json()
        self.assertEqual((status["held_because"], status["needs"][0]["kind"]), ("wait", "held"))
        self.tell(kind="resume")
        events = self.browser.get(f"/api/v1/runs/{self.pk}/events?after=1").json()
        self.assertEqual(
            [(e["kind"], e["by"]) for e in events], [("run.held", "ann"), ("run.resumed", "ann")]
        )

    def test_a_control_with_the_same_key_counts_once(self) -> None:
        self.assertEqual(self.tell("c1", kind="hold").status_code, 200)
        self.assertEqual(self.tell("c1", kind="hold").status_code, 200)
        self.problem(self.tell("c2", kind="hold"), 409, "refused")
        self.assertEqual(len(read_log(self.pk)), 2)

    def test_what_makes_no_sense_is_refused(self) -> None:
        self.problem(self.tell(kind="explode"), 400, "bad-value")
        self.problem(self.tell(kind="retry", step="nope"), 404, "not-found")
        self.problem(self.tell(kind="verdict", verdict="passed"), 409, "refused")
        self.problem(self.browser.send("POST", "/runs/999/controls", {"kind": "hold"}), 404, "not-found")
        self.problem(self.browser.get("/api/v1/runs/999"), 404, "not-found")
        self.problem(self.browser.get(f"/api/v1/runs/{self.pk}/events?after=x"), 400, "bad-value")

    def test_the_list_is_newest_first_and_can_be_narrowed(self) -> None:
        self.browser.send("POST", "/runs", {"plan": "REPT"}, **{"Idempotency-Key": "k2"})
        ids = [run["id"] for run in self.browser.get("/api/v1/runs").json()["runs"]]
        self.assertEqual(ids, sorted(ids, reverse=True))
        self.assertEqual(len(self.browser.get("/api/v1/runs?plan=REPT").json()["runs"]), 1)

    def test_readiness_and_site_line_know_of_the_run(self) -> None:
        row = next(p for p in self.browser.get("/api/v1/readiness").json()["plans"] if p["code"] == "HARB")
        self.assertEqual(row["active_run"], self.pk)
        line = self.browser.get("/api/v1/site-line").json()
        self.assertEqual([(r["id"], r["waits"]) for r in line["runs"]], [(self.pk, None)])
        self.tell(kind="hold")
        actions = self.browser.get("/api/v1/readiness").json()["actions"]
        self.assertEqual((actions[0]["urgency"], actions[0]["to"]), ("now", f"/runs/{self.pk}"))

    def test_a_run_that_is_put_aside_is_said_and_tried_again(self) -> None:
        self.problem(self.browser.send("POST", f"/runs/{self.pk}/try-again", {}), 409, "refused")
        Run.objects.filter(pk=self.pk).update(put_aside="It went wrong.")
        status = self.browser.get(f"/api/v1/runs/{self.pk}").json()["status"]
        self.assertEqual(status["put_aside"], "It went wrong.")
        titles = [one["title"] for one in self.browser.get("/api/v1/readiness").json()["actions"]]
        self.assertTrue(any("put aside run" in title for title in titles), titles)
        self.assertEqual(self.browser.send("POST", f"/runs/{self.pk}/try-again", {}).status_code, 204)
        self.assertEqual(Run.objects.get(pk=self.pk).put_aside, "")

    def test_a_log_that_cannot_be_read_takes_no_page_with_it(self) -> None:
        RunEvent.objects.filter(run=self.pk, seq=1).update(seq=3)
        for path in ("site-line", "readiness", "groups", "runs"):
            self.assertEqual(self.browser.get(f"/api/v1/{path}").status_code, 200, path)


class History(Tidewell):
    """What the demo's past amounts to."""

    history = True

    def test_past_runs_are_real_logs_that_agree_with_their_rows(self) -> None:
        runs = list(Run.objects.all())
        self.assertEqual(len(runs), 6)
        for run in runs:
            self.assertEqual(check_projection(run), [])
            self.assertEqual(fold(read_log(run.pk)).steps["leak-check"].status, "done")
        self.assertEqual({run.outcome for run in runs}, {"passed", "failed"})

    def test_nothing_in_them_waited_for_the_one_who_played_them(self) -> None:
        added = {run.pk: measures(fold(read_log(run.pk))).added_s for run in Run.objects.exclude(outcome="")}
        self.assertGreater(len(added), 4)
        self.assertFalse({run: s for run, s in added.items() if s is not None and s > 0.1})

    def test_the_board_says_what_is_proved_overdue_and_never_tested(self) -> None:
        board = self.browser.get("/api/v1/readiness").json()
        rows = {row["code"]: row for row in board["plans"]}
        self.assertTrue(rows["REPT"]["last_proof"]["overdue"])
        self.assertFalse(rows["BOOK"]["last_proof"]["overdue"])
        self.assertIsNone(rows["ALL"]["last_proof"])
        first = board["if_lost"][0]
        self.assertEqual((first["site"], first["plans"], first["down"]), ("QUA", ["ALL"], False))
        self.assertEqual(first["running"], 35)
        self.assertIn(f"{first['back']} of 35 workloads would be back at Hilltop in about", first["sentence"])
        self.assertIn("in no group, so nothing is copied", first["why_not"])
        codes = {f["code"] for f in rows["FLEET"]["findings"]}
        self.assertIn("changed-since-test", codes)
        titles = " ".join(action["title"] for action in board["actions"])
        for words in ("mail-01", "overdue", "never tested"):
            self.assertIn(words, titles)

    def test_measured_durations_make_the_forecast(self) -> None:
        from maestoso.server.runs.measured import measured

        samples = measured("HIL")
        self.assertGreaterEqual(len(samples["power-on:dir-01"]), 3)


class Measured(Tidewell):
    """What steps took is read once for every run, and of each step the latest count."""

    history = True

    def test_only_what_ended_since_is_read(self) -> None:
        before = measured("HIL")
        self.assertTrue(before)
        self.assertIs(measured("HIL"), before)
        step, samples = max(before.items(), key=lambda pair: len(pair[1]))
        row = RunStep.objects.filter(run__target="HIL", step=step, status="done").last()
        run = Run.objects.exclude(outcome="").filter(target="HIL").first()
        for number in range(MOST_MEASURED):
            run.pk = run.id = 1000 + number
            run.request_key = None
            run.save(force_insert=True)
            row.pk, row.run, row.asked_s, row.settled_s = None, run, 0.0, 1000.0 + number
            row.save(force_insert=True)
            with self.assertNumQueries(3):
                after = measured("HIL")
        self.assertEqual(len(after[step]), MOST_MEASURED)
        self.assertEqual(after[step][-1], 1000.0 + MOST_MEASURED - 1)
        self.assertEqual(before[step], samples, "who has the one before goes on reading it")
