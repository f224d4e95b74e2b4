"""Jobs: asked for, done by one worker only, told again, cancelled, and kept for whoever asked."""

from __future__ import annotations

import json
import threading
from datetime import timedelta
from typing import Any
from unittest import mock

from django.db import connection
from django.test import TestCase, TransactionTestCase, override_settings

from maestoso.core.errors import Refused
from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import incarnation
from maestoso.server.access.models import RoleGrant
from maestoso.server.audit.models import AuditEntry
from maestoso.server.estate import imports
from maestoso.server.estate.models import ImportJob, WorkloadRow
from maestoso.server.jobs import queue, services, work
from maestoso.server.jobs.models import Job, JobPart
from maestoso.server.jobs.work import PART, Stopped, Work, perform
from maestoso.server.readiness import foresight
from tests.server.tidewell import Browser, Tidewell

CLOCK = SystemClock()
ASYNC = {"Prefer": "respond-async"}
ALIVE = incarnation("worker of tests")
DEAD = ALIVE.rpartition(":")[0] + ":1"
"""The same process number, begun at another moment: that process is known to be gone."""
ELSEWHERE = "worker of tests/0123456789ab:4711:99"


def kind(do: Any) -> Any:
    """Jobs of the kind ``tried`` are done like this."""
    return mock.patch.dict(work._kinds, {"tried": do})


def asked(**more: Any) -> Job:
    """A job of that kind."""
    return services.begin("tried", "Something", {}, by="ann", **more)


class Hands(TestCase):
    """Whose a job is, and what of an attempt counts."""

    def test_what_is_made_is_kept_with_its_name_and_size(self) -> None:
        def do(at: Work) -> None:
            at.file("long.bin", "application/octet-stream")
            for letter in b"abc":
                at.write(bytes([letter]) * PART)
            at.write(b"end")

        job = asked(given=b"x" * (2 * PART + 1))
        with kind(do):
            self.assertTrue(perform(job.pk, ALIVE, renewing=False))
        job.refresh_from_db()
        self.assertEqual((job.state, job.size, job.file_name), ("done", 3 * PART + 3, "long.bin"))
        self.assertEqual(b"".join(work.parts(job)), b"a" * PART + b"b" * PART + b"c" * PART + b"end")
        # What it was given is not needed any more.
        self.assertFalse(JobPart.objects.filter(job=job, attempt=0).exists())

    def test_what_it_is_given_comes_back_whole(self) -> None:
        given, seen = bytes(range(256)) * 5000, []
        job = asked(given=given)
        with kind(lambda at: seen.append(at.given())):
            perform(job.pk, ALIVE, renewing=False)
        self.assertEqual(seen, [given])

    def test_nobody_takes_what_another_has(self) -> None:
        job = asked()
        for owner in (ALIVE, ELSEWHERE):
            Job.objects.filter(pk=job.pk).update(
                state="working", owner=owner, attempt=1, until=CLOCK.now() + timedelta(seconds=30)
            )
            with kind(lambda at: self.fail("it was done twice")):
                self.assertFalse(perform(job.pk, ALIVE, renewing=False))

    def test_what_a_dead_worker_had_is_begun_anew_and_nothing_of_it_counts(self) -> None:
        for owner, seconds in ((DEAD, 30), (ELSEWHERE, -1)):
            with self.subTest(owner):
                job = asked()
                Job.objects.filter(pk=job.pk).update(
                    state="working", owner=owner, attempt=1, until=CLOCK.now() + timedelta(seconds=seconds)
                )
                JobPart.objects.create(job=job, attempt=1, number=0, body=b"half of it")
                with kind(lambda at: at.answer({"whole": True})):
                    self.assertTrue(perform(job.pk, ALIVE, renewing=False))
                job.refresh_from_db()
                self.assertEqual((job.state, job.attempt), ("done", 2))
                self.assertEqual(json.loads(b"".join(work.parts(job))), {"whole": True})

    def test_one_that_lost_it_changes_nothing_any_more(self) -> None:
        def do(at: Work) -> None:
            Job.objects.filter(pk=at.job.pk).update(attempt=2, owner=ELSEWHERE)
            with self.assertRaises(Stopped), at.changing():
                Job.objects.filter(pk=at.job.pk).update(about="changed all the same")
            at.answer({"mine": True})

        job = asked()
        with kind(do):
            perform(job.pk, ALIVE, renewing=False)
        job.refresh_from_db()
        self.assertEqual((job.state, job.attempt, job.about), ("working", 2, "Something"))

    def test_one_that_kills_its_workers_is_given_up(self) -> None:
        job = asked()
        Job.objects.filter(pk=job.pk).update(state="working", owner=DEAD, attempt=3)
        with kind(lambda at: self.fail("it was begun once more")):
            perform(job.pk, ALIVE, renewing=False)
        job.refresh_from_db()
        self.assertEqual((job.state, job.problem["code"]), ("failed", "job-given-up"))
        self.assertIn("3 times", job.problem["detail"])

    def test_what_goes_wrong_is_said_as_it_would_have_been(self) -> None:
        def refuse(at: Work) -> None:
            raise Refused("It cannot be.", "Change it.", code="cannot-be", field="body.plan")

        job = asked()
        with kind(refuse):
            perform(job.pk, ALIVE, renewing=False)
        with self.assertRaises(Exception) as caught:
            services.check_done(services.find_job(job.pk, "ann"))
        error: Any = caught.exception
        self.assertEqual(
            (error.status, error.code, error.sentence, error.remedy, error.field),
            (409, "cannot-be", "It cannot be.", "Change it.", "body.plan"),
        )

    def test_a_fault_of_ours_says_nothing_of_itself(self) -> None:
        def fall(at: Work) -> None:
            raise ValueError("a secret")

        job = asked()
        with kind(fall), self.assertLogs("maestoso.jobs", "ERROR"):
            perform(job.pk, ALIVE, renewing=False)
        job.refresh_from_db()
        self.assertEqual((job.state, job.problem["status"]), ("failed", 500))
        self.assertNotIn("secret", json.dumps(job.problem))
        self.assertIn(f"under job {job.pk}", job.problem["detail"])

    def test_a_release_that_does_not_know_a_kind_says_so(self) -> None:
        job = services.begin("of-tomorrow", "Something", {}, by="ann")
        perform(job.pk, ALIVE, renewing=False)
        job.refresh_from_db()
        self.assertEqual(job.problem["code"], "job-given-up")


class LookedAfter(TestCase):
    """What is done for jobs that nobody has."""

    def told(self) -> list[int]:
        """The jobs that workers are told of now."""
        with mock.patch.object(queue, "send") as sent:
            services.tell_again(CLOCK)
        return sorted(call.args[0] for call in sent.call_args_list)

    def test_workers_are_told_again_of_what_waits_and_of_what_was_lost(self) -> None:
        now = CLOCK.now()
        long_ago, soon = now - timedelta(minutes=5), now + timedelta(seconds=30)
        rows = {}
        for name, state, owner, sent, until in (
            ("new", "waiting", "", now, None),
            ("forgotten", "waiting", "", long_ago, None),
            ("at it", "working", ALIVE, long_ago, soon),
            ("elsewhere", "working", ELSEWHERE, long_ago, soon),
            ("dead", "working", DEAD, long_ago, soon),
            ("over", "working", ELSEWHERE, long_ago, now - timedelta(seconds=5)),
            ("done", "done", "", long_ago, None),
        ):
            row = services.begin(name, "Something", {}, by="ann")
            Job.objects.filter(pk=row.pk).update(
                state=state, owner=owner, sent_at=sent, until=until, began_at=long_ago if until else None
            )
            rows[name] = row.pk
        self.assertEqual(self.told(), sorted(rows[name] for name in ("forgotten", "dead", "over")))
        # Not every six seconds: there are as many messages as there are workers to take them.
        self.assertEqual(self.told(), [])

    def test_a_broker_that_is_away_loses_nothing(self) -> None:
        job = asked()
        away = mock.patch.object(queue.app, "send_task", side_effect=OSError("away"))
        with away, self.assertLogs("maestoso.jobs", "WARNING"):
            queue.send(job.pk)
        job.refresh_from_db()
        self.assertEqual(job.state, "waiting")

    def test_what_ended_a_day_ago_goes_and_its_file_with_it(self) -> None:
        old, young = asked(), services.begin("other", "Something", {}, by="ann", given=b"x")
        JobPart.objects.create(job=old, attempt=1, number=0, body=b"x")
        Job.objects.filter(pk=old.pk).update(state="done", ended_at=CLOCK.now() - timedelta(hours=25))
        services.forget_old(CLOCK)
        self.assertEqual(list(Job.objects.values_list("pk", flat=True)), [young.pk])
        self.assertEqual(JobPart.objects.count(), 1)

    def test_that_nobody_works_shows_only_when_somebody_waits_for_it(self) -> None:
        self.assertIsNone(services.nobody_works())
        job = asked()
        self.assertIsNone(services.nobody_works())
        Job.objects.filter(pk=job.pk).update(asked_at=CLOCK.now() - timedelta(minutes=5))
        waited = services.nobody_works()
        assert waited is not None
        self.assertGreater(waited, timedelta(minutes=4))
        other = services.begin("other", "Something", {}, by="ben")
        Job.objects.filter(pk=other.pk).update(state="working", until=CLOCK.now() + timedelta(seconds=30))
        self.assertIsNone(services.nobody_works())


class OverHttp(Tidewell):
    """Asking, following, taking."""

    def later(self, path: str, body: Any = None) -> Any:
        """What is asked for without waiting: the job."""
        if body is None:
            reply = self.browser.get(f"/api/v1{path}", headers=ASYNC)
        else:
            reply = self.browser.send("POST", path, body, **ASYNC)
        self.assertEqual(reply.status_code, 202, reply.content[:300])
        self.assertEqual(reply.headers["Preference-Applied"], "respond-async")
        job = reply.json()
        self.assertEqual(reply.headers["Location"], f"/api/v1/jobs/{job['id']}")
        return job

    def test_who_does_not_wait_takes_the_same_from_the_job(self) -> None:
        job = self.later("/export?as=csv")
        self.assertEqual((job["state"], job["about"]), ("waiting", "Estate as CSV"))
        self.problem(self.browser.get(f"/api/v1/jobs/{job['id']}/result"), 409, "job-not-done")
        perform(job["id"], ALIVE, renewing=False)
        after = self.browser.get(f"/api/v1/jobs/{job['id']}").json()
        self.assertEqual((after["state"], after["file"]), ("done", "estate.csv"))
        taken = self.browser.get(f"/api/v1/jobs/{job['id']}/result")
        at_once = self.browser.get("/api/v1/export?as=csv")
        self.assertEqual(taken.content, at_once.content)
        self.assertEqual(taken.headers["Content-Disposition"], 'attachment; filename="estate.csv"')
        self.assertEqual(len(taken.content), after["size"])
        ours = [one["id"] for one in self.browser.get("/api/v1/jobs").json()]
        self.assertEqual(ours, [job["id"] + 1, job["id"]])

    def test_every_kind_is_done_as_it_was_asked_for(self) -> None:
        detail = self.browser.get("/api/v1/plans/BOOK").json()
        draft = {"plan": detail["plan"], "based_on": detail["version"]}
        for path, body, holds in (
            ("/plans/BOOK/helps", draft, b'"helps"'),
            ("/plans/BOOK/rehearsal", {"plan": detail["plan"]}, b'"sentence"'),
            ("/plans/BOOK/run-book.pdf", None, b"%PDF-"),
            ("/export?as=json", None, b'"workloads"'),
        ):
            with self.subTest(path):
                job = self.later(path, body)
                perform(job["id"], ALIVE, renewing=False)
                taken = self.browser.get(f"/api/v1/jobs/{job['id']}/result")
                self.assertEqual(taken.status_code, 200, taken.content[:300])
                whole = b"".join(taken.streaming_content) if taken.streaming else taken.content
                self.assertIn(holds, whole)

    def test_a_refusal_is_the_same_whether_one_waits_or_not(self) -> None:
        detail = self.browser.get("/api/v1/plans/BOOK").json()
        draft = {"plan": detail["plan"], "fault": "boot-hangs", "subject": "no"}
        at_once = self.problem(self.browser.send("POST", "/plans/BOOK/rehearsal", draft), 400, "bad-value")
        job = self.later("/plans/BOOK/rehearsal", draft)
        perform(job["id"], ALIVE, renewing=False)
        later = self.problem(self.browser.get(f"/api/v1/jobs/{job['id']}/result"), 400, "bad-value")
        self.assertEqual(later, at_once)
        self.assertEqual(later["field"], "body.subject")
        self.assertIn(later["detail"], self.browser.get(f"/api/v1/jobs/{job['id']}").json()["problem"])

    def test_what_never_could_be_is_refused_before_there_is_a_job(self) -> None:
        self.problem(self.browser.get("/api/v1/plans/NONE/run-book.pdf", headers=ASYNC), 404, "not-found")
        self.problem(self.browser.get("/api/v1/export?as=xml", headers=ASYNC), 400, "bad-value")
        self.problem(self.browser.get("/api/v1/export?as=csv&filter=(", headers=ASYNC), 400, "bad-filter")
        self.assertEqual(Job.objects.count(), 0)

    def test_one_that_waits_is_cancelled_and_never_begun(self) -> None:
        job = self.later("/export?as=csv")
        reply = self.browser.send("DELETE", f"/jobs/{job['id']}")
        self.assertEqual(reply.json()["state"], "cancelled")
        self.assertFalse(perform(job["id"], ALIVE, renewing=False))
        self.problem(self.browser.get(f"/api/v1/jobs/{job['id']}/result"), 409, "job-cancelled")
        self.assertEqual(self.browser.send("DELETE", f"/jobs/{job['id']}").status_code, 200)

    def test_one_that_is_done_is_not_cancelled(self) -> None:
        job = self.later("/export?as=csv")
        perform(job["id"], ALIVE, renewing=False)
        self.problem(self.browser.send("DELETE", f"/jobs/{job['id']}"), 409, "refused")
        self.assertEqual(self.browser.get(f"/api/v1/jobs/{job['id']}/result").status_code, 200)

    def test_jobs_of_others_are_not_found(self) -> None:
        job = self.later("/export?as=csv")
        other = Browser()
        other.sign_in("ben")
        for path in (f"/jobs/{job['id']}", f"/jobs/{job['id']}/result"):
            self.problem(other.get(f"/api/v1{path}"), 404, "not-found")
        self.problem(other.send("DELETE", f"/jobs/{job['id']}"), 404, "not-found")
        self.assertEqual(other.get("/api/v1/jobs").json(), [])

    def test_two_of_a_kind_at_once_for_each_with_a_word_on_when_to_come_again(self) -> None:
        first, _ = self.later("/export?as=csv"), self.later("/export?as=json")
        Job.objects.filter(pk=first["id"]).update(
            state="working", began_at=CLOCK.now() - timedelta(seconds=30), done=60, total=100
        )
        reply = self.browser.get("/api/v1/export?as=csv", headers=ASYNC)
        said = self.problem(reply, 429, "too-much-at-once")
        self.assertIn("Estate as CSV and Estate as JSON", said["detail"])
        self.assertIn("in about 20 s", said["remedy"])
        self.assertEqual(reply.headers["Retry-After"], "20")
        # Another kind, and another person, are not held up.
        self.later("/plans/BOOK/run-book.pdf")
        other = Browser()
        other.sign_in("ben")
        self.assertEqual(other.get("/api/v1/export?as=csv").status_code, 200)
        self.browser.send("DELETE", f"/jobs/{first['id']}")
        perform(first["id"], ALIVE, renewing=False)
        Job.objects.filter(pk=first["id"]).update(state="cancelled")
        self.later("/export?as=csv")

    def test_who_lost_the_permission_does_not_get_the_result(self) -> None:
        other = Browser()
        other.sign_in("ben")
        job = other.get("/api/v1/plans/BOOK/run-book.pdf", headers=ASYNC).json()
        perform(job["id"], ALIVE, renewing=False)
        Job.objects.filter(pk=job["id"]).update(needs=["take-evidence", "plan", "BOOK"])
        RoleGrant.objects.filter(user__username="ben").update(role="viewer")
        self.problem(other.get(f"/api/v1/jobs/{job['id']}/result"), 403, "not-permitted")

    def imported(self) -> int:
        """A file with one workload that was read; the number of its import."""
        reply = self.browser.generic(
            "POST", "/api/v1/imports?name=one.csv", b"site,name,cores,memory_mib\nQUA,lone-01,1,1024\n",
            content_type="application/octet-stream", headers={"X-CSRFToken": self.browser.token},
        )  # fmt: skip
        return int(reply.json()["id"])

    def test_what_a_worker_changes_stands_in_the_trail_of_who_asked(self) -> None:
        pk = self.imported()
        self.browser.send("POST", f"/imports/{pk}", {"token": ""})
        job = ImportJob.objects.get(pk=pk).job
        assert job is not None
        entry = AuditEntry.objects.get(path=f"jobs/{job.pk}")
        self.assertEqual((entry.by, entry.did), ("ann", f"Importing one.csv (job {job.pk})"))
        (changed,) = entry.changed
        self.assertIn("lone-01", changed["what"])
        self.assertEqual((changed["before"], changed["after"]["name"]), (None, "lone-01"))
        # Reading changed nothing, and has no entry but that of the request.
        self.assertEqual(AuditEntry.objects.filter(path__startswith="jobs/").count(), 1)

    def test_where_too_many_wait_nobody_else_is_kept_waiting(self) -> None:
        job = self.later("/export?as=csv")
        row = services.find_job(job["id"], "ann")
        with override_settings(JOBS_AT_ONCE=False):
            held = [services._waiting.acquire(blocking=False) for _ in range(services.MOST_WAITING)]
            self.assertTrue(all(held))
            try:
                self.assertEqual(services.settled(row, 600).state, "waiting")
            finally:
                for _ in held:
                    services._waiting.release()

    def test_an_import_that_was_written_is_not_written_again(self) -> None:
        pk = self.imported()
        # Whoever works dies between the commit and the word that it is done.
        dies = mock.patch.object(imports, "update_practice_site", side_effect=SystemExit)
        with dies, self.assertRaises(SystemExit):
            self.browser.send("POST", f"/imports/{pk}", {"token": ""})
        row = WorkloadRow.objects.get(name="lone-01")
        job = ImportJob.objects.get(pk=pk).job
        assert job is not None
        self.assertEqual(job.state, "working")
        Job.objects.filter(pk=job.pk).update(owner=DEAD)
        perform(job.pk, ALIVE, renewing=False)
        row.refresh_from_db()
        self.assertEqual((row.revision, WorkloadRow.objects.filter(name="lone-01").count()), (1, 1))
        self.assertEqual(self.browser.get(f"/api/v1/imports/{pk}").json()["state"], "done")


class WhileItIsWorkedAt(TransactionTestCase):
    """With the renewing thread, over its own connection."""

    def test_progress_is_seen_and_a_cancel_is_heard(self) -> None:
        seen, cancelled = threading.Event(), threading.Event()

        def do(at: Work) -> None:
            number = 0
            while not seen.wait(0.05):
                number = min(number + 1, 90)
                at.tell(number, 100)
            cancelled.wait(20)
            for _ in range(600):
                at.tell(90, 100)
                threading.Event().wait(0.05)
            self.fail("the cancel was not heard")

        job = asked()

        def worker() -> None:
            perform(job.pk, ALIVE)
            connection.close()

        with kind(do), mock.patch.object(work, "LOOK_EVERY_S", 0.05):
            thread = threading.Thread(target=worker)
            thread.start()
            while services.seconds_left(services.find_job(job.pk, "ann"), CLOCK.now()) is None:
                threading.Event().wait(0.05)
            seen.set()
            services.cancel(services.find_job(job.pk, "ann"))
            cancelled.set()
            thread.join(60)
        after = services.find_job(job.pk, "ann")
        self.assertEqual((after.state, after.owner), ("cancelled", ""))
        self.assertIsNotNone(after.ended_at)

    def test_a_cancel_at_the_last_moment_takes_back_what_was_changed(self) -> None:
        job, other = asked(), services.begin("other", "Something", {}, by="ann")

        def cancel() -> None:
            services.cancel(services.find_job(job.pk, "ann"))
            connection.close()

        def do(at: Work) -> None:
            with at.changing():
                JobPart.objects.create(job=other, attempt=0, number=0, body=b"x")
                thread = threading.Thread(target=cancel)
                thread.start()
                thread.join(60)

        with kind(do):
            perform(job.pk, ALIVE)
        self.assertEqual(services.find_job(job.pk, "ann").state, "cancelled")
        self.assertFalse(JobPart.objects.exists())

    def test_a_lease_is_put_off_while_it_is_worked_at(self) -> None:
        job = asked()

        def do(at: Work) -> None:
            first = Job.objects.get(pk=job.pk).until
            assert first is not None
            until = CLOCK.now() + timedelta(seconds=300)
            while CLOCK.now() < until:
                now = Job.objects.get(pk=job.pk).until
                if now is not None and now > first:
                    return
                threading.Event().wait(0.05)
            self.fail("the lease was not renewed")

        with kind(do), mock.patch.multiple(work, LOOK_EVERY_S=0.05, RENEW_EVERY_S=0.1):
            self.assertTrue(perform(job.pk, ALIVE))
        self.assertEqual(services.find_job(job.pk, "ann").state, "done")

    @override_settings(JOBS_AT_ONCE=False)
    def test_who_waits_is_told_when_it_is_done_and_when_patience_is_over(self) -> None:
        with mock.patch.object(queue, "send") as sent:
            job = asked()
        sent.assert_called_once_with(job.pk)
        self.assertEqual(services.settled(job, 0.1).state, "waiting")

        def worker() -> None:
            perform(job.pk, ALIVE)
            connection.close()

        with kind(lambda at: at.answer({})):
            thread = threading.Thread(target=worker)
            thread.start()
            self.assertEqual(services.settled(job, 60).state, "done")
            thread.join(60)


class Progress(Tidewell):
    """What looks ahead says how far it is."""

    def test_rehearsals_and_helps_tell_and_can_be_stopped(self) -> None:
        detail = self.browser.get("/api/v1/plans/BOOK").json()
        body = {"plan": detail["plan"]}
        for path, more in (("helps", {"based_on": detail["version"]}), ("rehearsal", {})):
            with self.subTest(path):
                told: list[tuple[int, int]] = []
                real = Work.tell

                def tell(at: Work, done: int, total: int = 0, told: Any = told, real: Any = real) -> None:
                    told.append((done, total))
                    real(at, done, total)

                with mock.patch.object(Work, "tell", tell):
                    reply = self.browser.send("POST", f"/plans/BOOK/{path}", {**body, **more})
                self.assertEqual(reply.status_code, 200, reply.content[:300])
                self.assertGreater(len(told), 1)
                self.assertEqual(told, sorted(told))
                self.assertTrue(all(done <= total for done, total in told), told)

                def stop(at: Work, done: int, total: int = 0) -> None:
                    raise Stopped

                with mock.patch.object(Work, "tell", stop), mock.patch.object(foresight, "Helps") as made:
                    Job.objects.all().delete()
                    self.browser.send("POST", f"/plans/BOOK/{path}", {**body, **more}, **ASYNC)
                    job = Job.objects.get()
                    Job.objects.update(cancel=True)
                    perform(job.pk, ALIVE, renewing=False)
                    made.assert_not_called()
                job.refresh_from_db()
                self.assertEqual(job.state, "cancelled")
