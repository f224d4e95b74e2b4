"""Evidence over the API: reports, seals, comparison, proof, additions, retention, and what is touched."""

from __future__ import annotations

import base64
import io
import json
import re
import struct
import zipfile
import zlib
from datetime import timedelta
from typing import Any
from unittest import mock
from urllib.parse import urlencode

from PIL import Image

from maestoso.core.evidence.evidence_file import verify
from maestoso.engine.clock import SystemClock
from maestoso.server.common import paging, seal_keys
from maestoso.server.evidence.models import Addition, Seal
from maestoso.server.evidence.services import remove_expired, seal_what_is_not
from maestoso.server.runs.models import Run, RunEvent, RunStep
from tests.server.tidewell import Tidewell, assert_tagged

CLOCK = SystemClock()


def a_logo(size: tuple[int, int] = (120, 40), form: str = "PNG") -> bytes:
    """A picture."""
    out = io.BytesIO()
    Image.new("RGB", size, "navy").save(out, form)
    return out.getvalue()


def a_bomb() -> bytes:
    """A small PNG that says it is 30,000 pixels in each direction."""
    made = bytearray(a_logo())
    made[16:24] = struct.pack(">II", 30_000, 30_000)
    made[29:33] = struct.pack(">I", zlib.crc32(made[12:29]))
    return bytes(made)


class WithHistory(Tidewell):
    """The demo with its past runs; ``failed`` and ``passed`` are two of Booking."""

    history = True

    def setUp(self) -> None:
        super().setUp()
        runs = Run.objects.filter(plan_code="BOOK").order_by("pk")
        self.failed, self.passed = runs[0].pk, runs[1].pk

    def evidence(self, pk: int) -> Any:
        """The evidence of a run."""
        reply = self.browser.get(f"/api/v1/runs/{pk}/evidence")
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        return reply.json()

    def put(self, method: str, path: str, body: bytes, **headers: str) -> Any:
        """Send a file as it is."""
        return self.browser.generic(
            method, f"/api/v1{path}", body, content_type="application/octet-stream",
            headers={"X-CSRFToken": self.browser.token, **headers},
        )  # fmt: skip


class Reports(WithHistory):
    """A run in words, as page, PDF, data and table."""

    def test_the_first_page_says_what_came_out(self) -> None:
        found = self.evidence(self.failed)
        report = found["report"]
        self.assertEqual((report["outcome"], report["rto_met"], report["remains"]), ("failed", False, []))
        self.assertIn("was tested at Hilltop and failed", report["sentence"])
        self.assertTrue(found["verification"]["holds"])
        self.assertEqual(found["verification"]["seal"]["facts"], report["facts"])
        self.assertEqual(found["others"], [self.passed])

    def test_the_page_speaks_in_the_name_of_the_organisation_and_repeats_no_markup(self) -> None:
        style = {"organisation": "Tidewell <b>Ferries</b>", "words": "Ask *Ann* <script>x</script>"}
        self.assertEqual(self.browser.send("PUT", "/settings", style, **{"If-Match": '"0"'}).status_code, 200)
        page = self.browser.get(f"/api/v1/runs/{self.failed}/report.html").content.decode()
        self.assertIn("Tidewell &lt;b&gt;Ferries&lt;/b&gt;", page)
        self.assertIn("Ask <em>Ann</em> &lt;script&gt;", page)
        self.assertNotIn("<script", page)
        for words in ("web-02", "administrator asked to try again: web-02", "Leak", "172.18.6.12"):
            self.assertIn(words.lower().replace("leak", "left behind"), page.lower())

    def test_the_pdf_is_tagged_and_has_its_text_as_text(self) -> None:
        made = self.browser.get(f"/api/v1/runs/{self.passed}/report.pdf")
        self.assertEqual(made.headers["Content-Type"], "application/pdf")
        self.assertTrue(made.content.startswith(b"%PDF-"))
        assert_tagged(self, made.content)

    def test_data_and_table_are_of_the_same_run(self) -> None:
        data = self.browser.get(f"/api/v1/runs/{self.failed}/report.json").json()
        self.assertEqual(data, self.evidence(self.failed)["report"])
        table = self.browser.get(f"/api/v1/runs/{self.failed}/report.csv").content.decode("utf-8-sig")
        self.assertEqual(len(table.splitlines()), len(data["steps"]) + 1)

    def test_why_it_was_started_in_spite_of_warnings_is_kept(self) -> None:
        body = {"plan": "BOOK", "reason": "Mail is tested apart.", "options": {"pace": 20}}
        pk = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "why"}).json()["id"]
        found = self.evidence(pk)
        self.assertEqual(found["report"]["reason"], "Mail is tested apart.")
        self.assertIsNone(found["verification"])
        page = self.browser.get(f"/api/v1/runs/{pk}/report.html").content.decode()
        self.assertIn("started it in spite of them: Mail is tested apart.", page)
        body["reason"] = "x" * 501
        refused = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "long"})
        self.assertEqual(self.problem(refused, 400, "bad-value")["field"], "body.reason")

    def test_what_is_not_there_is_said(self) -> None:
        for path in ("evidence", "report.html", "report.pdf", "report.json", "report.csv", "evidence.jsonl"):
            self.problem(self.browser.get(f"/api/v1/runs/999/{path}"), 404, "not-found")


class Seals(WithHistory):
    """What is touched is found, and named."""

    def touched(self, pk: int) -> Any:
        found = self.evidence(pk)["verification"]
        self.assertFalse(found["holds"])
        return found

    def test_a_file_can_be_checked_here_and_without_the_database(self) -> None:
        text = self.browser.get(f"/api/v1/runs/{self.passed}/evidence.jsonl").content.decode()
        self.assertTrue(verify(text).holds)
        found = self.put("POST", "/evidence/verify", text.encode()).json()
        self.assertEqual((found["holds"], found["trusted"]), (True, True))
        lines = text.splitlines()
        lines[8] = lines[8].replace('"by":"', '"by":"x')
        found = self.put("POST", "/evidence/verify", "\n".join(lines).encode()).json()
        self.assertEqual((found["holds"], found["event"]), (False, 8))

    def test_what_is_no_evidence_is_refused_in_words(self) -> None:
        for body in (b"", b"{}", b"\xff\xfe", b'{"format": 3}'):
            self.problem(self.put("POST", "/evidence/verify", body), 400, "bad-value")

    def test_a_touched_row_is_named(self) -> None:
        RunEvent.objects.filter(run_id=self.passed, seq=9).update(by="somebody")
        self.assertEqual(self.touched(self.passed)["event"], 9)

    def test_a_missing_row_is_named_although_nothing_else_can_be_read(self) -> None:
        RunEvent.objects.filter(run_id=self.passed, seq=9).delete()
        found = self.touched(self.passed)
        self.assertEqual(found["event"], 9)
        self.assertIn("Event 9 is missing", found["sentence"])
        self.assertIsNone(self.evidence(self.passed)["report"])

    def test_a_clock_that_was_set_is_found(self) -> None:
        row = RunEvent.objects.get(run_id=self.passed, seq=9)
        RunEvent.objects.filter(pk=row.pk).update(at=row.at + timedelta(hours=1))
        self.assertEqual(self.touched(self.passed)["event"], 9)

    def test_the_seal_of_another_run_does_not_fit(self) -> None:
        other = Seal.objects.get(run_id=self.failed)
        Seal.objects.filter(run_id=self.passed).update(token=other.token)
        self.touched(self.passed)

    def test_a_signature_that_was_swapped_does_not_fit(self) -> None:
        one, two = (Seal.objects.get(run_id=pk).token for pk in (self.passed, self.failed))
        forged = ".".join([*one.split(".")[:2], two.split(".")[2]])
        Seal.objects.filter(run_id=self.passed).update(token=forged)
        self.assertIn("signature does not fit", self.touched(self.passed)["sentence"])

    def test_old_evidence_holds_after_a_new_key_and_the_old_one_can_seal_no_more(self) -> None:
        before = seal_keys.current_key().thumbprint()
        made = self.browser.send("POST", "/evidence/keys").json()
        self.assertNotEqual(made["current"], before)
        self.assertIn(before, [key["kid"] for key in made["keys"]])
        self.assertTrue(self.evidence(self.passed)["verification"]["holds"])
        self.assertNotIn('"d"', (seal_keys.FOLDER / f"{before}.json").read_text())
        self.assertIn('"d"', (seal_keys.FOLDER / f"{made['current']}.json").read_text())
        self.assertNotIn("d", made["keys"][0])

    def test_a_key_that_is_gone_is_said(self) -> None:
        Seal.objects.filter(run_id=self.passed).update(key="gone")
        self.assertIn("key that sealed this run is gone", self.touched(self.passed)["sentence"])

    def test_a_run_whose_seal_was_taken_is_sealed_again_only_if_its_log_is_whole(self) -> None:
        Seal.objects.filter(run_id__in=(self.passed, self.failed)).delete()
        RunEvent.objects.filter(run_id=self.failed, seq=9).update(by="somebody")
        self.assertIn("has no seal", self.touched(self.passed)["sentence"])
        seal_what_is_not(CLOCK)
        found = self.evidence(self.passed)
        self.assertTrue(found["verification"]["holds"])
        self.assertGreater(found["sealed_at"], found["report"]["ended_at"])
        self.assertFalse(Seal.objects.filter(run_id=self.failed).exists())


class Later(WithHistory):
    """What people add to a run, how long it is kept, and who holds it."""

    def test_a_note_and_a_file_are_kept_apart_and_signed(self) -> None:
        before = self.evidence(self.passed)["verification"]
        note = self.browser.send("POST", f"/runs/{self.passed}/notes", {"text": "Lesson: *ask* early."})
        self.assertEqual((note.status_code, note.json()["by"]), (201, "ann"))
        sent = self.put("POST", f"/runs/{self.passed}/files?name=..%2Fphoto.png&type=image/png", b"\x89PNG")
        self.assertEqual((sent.json()["name"], sent.json()["number"]), ("photo.png", 2))
        back = self.browser.get(f"/api/v1/runs/{self.passed}/files/2")
        self.assertEqual(
            (back.content, back.headers["Content-Type"]), (b"\x89PNG", "application/octet-stream")
        )
        self.assertIn("attachment", back.headers["Content-Disposition"])
        found = self.evidence(self.passed)
        self.assertEqual([one["holds"] for one in found["additions"]], [True, True])
        self.assertEqual(found["verification"], before)

    def test_an_added_picture_is_printed_in_the_report(self) -> None:
        address = f"/runs/{self.passed}/files?name="
        self.put("POST", f"{address}panel.jpg&type=image/jpeg", a_logo((4000, 100), "JPEG"))
        self.put("POST", f"{address}broken.png&type=image/png", b"\x89PNG")
        self.put("POST", f"{address}huge.png&type=image/png", a_bomb())
        html = self.browser.get(f"/api/v1/runs/{self.passed}/report.html").content.decode()
        (shown,) = re.findall(r'<figure class="added"><img src="data:image/png;base64,([^"]+)"', html)
        self.assertEqual(Image.open(io.BytesIO(base64.b64decode(shown))).size, (1400, 35))
        self.assertIn("broken.png (", html)
        self.assertNotIn("<figcaption>broken.png", html)

    def test_a_note_that_was_touched_says_so(self) -> None:
        self.browser.send("POST", f"/runs/{self.passed}/notes", {"text": "True."})
        Addition.objects.filter(run_id=self.passed).update(text="False.")
        self.assertFalse(self.evidence(self.passed)["additions"][0]["holds"])

    def test_what_cannot_be_added_is_refused(self) -> None:
        self.problem(
            self.browser.send("POST", f"/runs/{self.passed}/notes", {"text": "  "}), 400, "bad-value"
        )
        for query, body in (("name=x.txt", b""), ("name=", b"x"), ("name=a%00b", b"x")):
            self.problem(self.put("POST", f"/runs/{self.passed}/files?{query}", body), 400, "bad-value")
        large = self.put("POST", f"/runs/{self.passed}/files?name=x.bin", b"x" * (10 * 2**20 + 1))
        self.assertIn("larger than 10 MiB", self.problem(large, 400, "bad-value")["detail"])
        body = {"plan": "REPT", "options": {"pace": 20}}
        open_run = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "n"}).json()["id"]
        self.problem(self.browser.send("POST", f"/runs/{open_run}/notes", {"text": "x"}), 409, "refused")

    def test_runs_are_let_go_when_their_time_is_over_unless_somebody_holds_them(self) -> None:
        held = self.browser.send("PUT", f"/runs/{self.failed}/legal-hold", {"reason": "Claim 12"})
        self.assertEqual(held.json()["legal_hold"], "Claim 12")
        remove_expired(CLOCK)
        self.assertEqual(Run.objects.exclude(removed_at=None).count(), 0)
        style = {"organisation": "Tidewell", "keep_days": 1}
        self.browser.send("PUT", "/settings", style, **{"If-Match": '"0"'})
        remove_expired(CLOCK)
        gone = self.problem(self.browser.get(f"/api/v1/runs/{self.passed}/evidence"), 410, "gone")
        self.assertIn("was deleted", gone["detail"])
        self.assertFalse(RunEvent.objects.filter(run_id=self.passed).exists())
        self.assertFalse(RunStep.objects.filter(run_id=self.passed).exists())
        line = next(
            run for run in self.browser.get("/api/v1/runs").json()["runs"] if run["id"] == self.passed
        )
        self.assertEqual((line["removed"], line["sealed"], line["outcome"]), (True, True, "passed"))
        self.assertTrue(self.evidence(self.failed)["verification"]["holds"])
        self.assertEqual(
            self.browser.send("PUT", f"/runs/{self.failed}/legal-hold", {"reason": ""}).status_code, 200
        )
        remove_expired(CLOCK)
        self.problem(self.browser.get(f"/api/v1/runs/{self.failed}/report.html"), 410, "gone")


class Style(WithHistory):
    """In whose name reports speak."""

    def logo(self, body: bytes) -> Any:
        return self.put("PUT", "/settings/logo", body)

    def test_a_logo_is_drawn_anew_and_stands_in_reports(self) -> None:
        marked = a_logo() + b"<script>alert(1)</script>"
        self.assertEqual(self.logo(marked).status_code, 200)
        kept = self.browser.get("/api/v1/settings/logo").content
        self.assertNotIn(b"script", kept)
        self.assertEqual(Image.open(io.BytesIO(kept)).size, (120, 40))
        page = self.browser.get("/api/v1/evidence/sample.html").content
        self.assertIn(b"data:image/png;base64,", page)
        self.assertEqual(self.browser.send("DELETE", "/settings/logo").json()["settings"]["logo"], False)
        self.problem(self.browser.get("/api/v1/settings/logo"), 404, "not-found")

    def test_what_is_no_logo_is_refused_with_why(self) -> None:
        wrong = {
            b"hello": "no picture",
            b"": "no picture",
            a_logo()[:60]: "no picture",
            b"<svg xmlns='http://www.w3.org/2000/svg'><script>x</script></svg>": "can hold a script",
            a_logo((4001, 10)): "4001 x 10 pixels",
            a_bomb(): "no picture",
            a_logo() + b"\0" * (512 * 2**10): "larger than 512 KiB",
        }
        for body, why in wrong.items():
            with self.subTest(why):
                self.assertIn(why, self.problem(self.logo(body), 400, "bad-value")["detail"])
        self.assertFalse(self.browser.get("/api/v1/settings").json()["settings"]["logo"])

    def test_what_somebody_else_changed_is_not_overwritten(self) -> None:
        style = {"organisation": "One"}
        self.assertEqual(self.browser.send("PUT", "/settings", style, **{"If-Match": '"0"'}).status_code, 200)
        late = self.browser.send("PUT", "/settings", {"organisation": "Two"}, **{"If-Match": '"0"'})
        self.problem(late, 412, "stale")
        wrong_zone = {"organisation": "x", "time_zone": "Mars/Olympus"}
        for wrong in ({"organisation": " "}, {"organisation": "x", "keep_days": -1}, wrong_zone):
            reply = self.browser.send("PUT", "/settings", wrong, **{"If-Match": '"1"'})
            self.problem(reply, 400, "bad-value")


class BesideEachOther(WithHistory):
    """Comparison, trend, proof, and the archive."""

    def test_two_runs_are_compared_the_earlier_first_whichever_is_named(self) -> None:
        one = self.browser.get(f"/api/v1/runs/{self.passed}/compared?with={self.failed}").json()
        two = self.browser.get(f"/api/v1/runs/{self.failed}/compared?with={self.passed}").json()
        self.assertEqual(one, two)
        self.assertEqual((one["earlier"]["run"], one["later"]["run"]), (self.failed, self.passed))
        self.assertIn("less", one["comparison"]["sentence"])
        self.assertTrue(one["comparison"]["steps"][0]["unusual"])

    def test_runs_that_cannot_be_compared_are_refused(self) -> None:
        other = Run.objects.exclude(plan_code="BOOK").first()
        assert other is not None
        for wrong in (other.pk, self.failed):
            self.problem(
                self.browser.get(f"/api/v1/runs/{self.failed}/compared?with={wrong}"), 400, "bad-value"
            )
        self.problem(self.browser.get(f"/api/v1/runs/{self.failed}/compared?with=x"), 400, "bad-value")
        self.problem(self.browser.get(f"/api/v1/runs/{self.failed}/compared?with=999"), 404, "not-found")

    def test_a_trend_holds_every_run_of_the_plan_oldest_first(self) -> None:
        found = self.browser.get("/api/v1/plans/BOOK/trend").json()
        self.assertEqual([run["run"] for run in found["runs"]], [self.failed, self.passed])
        self.assertGreater(found["runs"][0]["rto_s"], found["rto_objective_s"])
        self.assertGreater(found["runs"][0]["failures"], found["runs"][1]["failures"])
        self.assertEqual(self.browser.get("/api/v1/plans/ALL/trend").json()["runs"], [])

    def test_what_was_never_proved_is_said_plan_by_plan_and_service_by_service(self) -> None:
        found = self.browser.get("/api/v1/evidence/proof").json()
        plans = {plan["plan"]: plan for plan in found["plans"]}
        self.assertRegex(found["sentence"], r"^\d of 5 plans are proved in time.*1 never")
        self.assertIsNone(plans["ALL"]["last_at"])
        self.assertTrue(plans["ALL"]["overdue"])
        self.assertTrue(all(one["run"] == self.passed for one in plans["BOOK"]["services"]))
        last = Run.objects.order_by("started_at").first()
        assert last is not None
        marks = self.browser.get(f"/api/v1/evidence/proof?year={last.started_at.year}").json()["plans"]
        self.assertGreaterEqual(sum(len(plan["marks"]) for plan in marks), 1)
        self.assertEqual(
            sum(
                len(p["marks"]) for p in self.browser.get("/api/v1/evidence/proof?year=1999").json()["plans"]
            ),
            0,
        )
        self.problem(self.browser.get("/api/v1/evidence/proof?year=soon"), 400, "bad-value")

    def archive(self, query: str = "") -> zipfile.ZipFile:
        reply = self.browser.get(f"/api/v1/evidence/archive.zip{query}")
        self.assertEqual(reply.headers["Content-Type"], "application/zip")
        return zipfile.ZipFile(io.BytesIO(b"".join(reply)))

    def test_the_archive_can_be_checked_by_what_is_in_it(self) -> None:
        self.put("POST", f"/runs/{self.passed}/files?name=plan%20of%20rooms.txt", b"rooms")
        with self.archive(f"?runs={self.passed}") as found:
            self.assertIsNone(found.testzip())
            folder = f"run-{self.passed}"
            self.assertLessEqual(
                {f"{folder}/report.pdf", f"{folder}/report.json", f"{folder}/steps.csv", f"{folder}/added/01-plan of rooms.txt",
                 f"{folder}/additions.jsonl", "README.md", "check.py", "keys.json"},
                set(found.namelist()),
            )  # fmt: skip
            listed = json.loads(found.read("keys.json"))["keys"]
            trusted = {key["kid"]: key for key in listed}
            self.assertTrue(verify(found.read(f"{folder}/run.evidence.jsonl").decode(), trusted).holds)
            index = found.read("README.md").decode()
        self.assertIn(
            f"python3 check.py run-{self.passed}/run.evidence.jsonl",
            index.replace("run-1/", f"run-{self.passed}/"),
        )
        self.assertIn("Booking end to end", index)

    def test_what_cannot_be_exported_is_refused(self) -> None:
        self.problem(self.browser.get("/api/v1/evidence/archive.zip?runs=x"), 400, "bad-value")
        self.problem(self.browser.get("/api/v1/evidence/archive.zip?runs=999"), 404, "not-found")


class Listing(WithHistory):
    """The list of runs, narrowed, and the filters that people named."""

    def found(self, query: str) -> list[int]:
        reply = self.browser.get(f"/api/v1/runs?{query}")
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        return [run["id"] for run in reply.json()["runs"]]

    def test_filters_narrow_and_add_up(self) -> None:
        everything = self.found("")
        self.assertEqual(everything, sorted(everything, reverse=True))
        self.assertEqual(self.found("plan=BOOK"), [self.passed, self.failed])
        self.assertEqual(self.found("plan=BOOK&outcome=failed"), [self.failed])
        self.assertEqual(self.found("find=booking%20heartbeat"), [self.failed])
        self.assertEqual(self.found("kind=disaster"), [])
        day = Run.objects.get(pk=self.failed).started_at.date().isoformat()
        self.assertEqual(self.found(f"since={day}&until={day}"), [self.failed])

    def test_page_by_page_every_run_comes_once(self) -> None:
        everything, got, query = self.found(""), [], ""
        with mock.patch.object(paging, "PAGE", 2):
            while True:
                page = self.browser.get(f"/api/v1/runs?{query}").json()
                got += [run["id"] for run in page["runs"]]
                if page["next"] is None:
                    break
                query = urlencode({"cursor": page["next"]})
        self.assertEqual(got, everything)
        self.assertGreater(len(got), 2)

    def test_words_of_notes_that_came_later_are_found_once(self) -> None:
        for text in ("Gangway lesson", "Gangway again"):
            self.browser.send("POST", f"/runs/{self.passed}/notes", {"text": text})
        self.assertEqual(self.found("find=gangway"), [self.passed])

    def test_wrong_filters_name_their_field(self) -> None:
        for query in ("kind=swim", "outcome=fine", "since=soon", "until=2026-13-01", "cursor=x"):
            body = self.problem(self.browser.get(f"/api/v1/runs?{query}"), 400, "bad-value")
            self.assertEqual(body["field"], query.split("=")[0])

    def test_a_view_is_kept_for_who_named_it(self) -> None:
        view = {"name": "Failures", "query": "outcome=failed"}
        self.assertEqual(self.browser.send("PUT", "/run-views", view).json(), [view])
        for wrong in (
            {"name": "", "query": ""},
            {"name": "x", "query": "colour=red"},
            {"name": "x", "query": "kind=swim"},
        ):
            self.problem(self.browser.send("PUT", "/run-views", wrong), 400, "bad-value")
        other = type(self.browser)()
        other.sign_in("ben")
        self.assertEqual(other.get("/api/v1/run-views").json(), [])
        self.problem(other.send("DELETE", "/run-views?name=Failures"), 404, "not-found")
        self.assertEqual(self.browser.send("DELETE", "/run-views?name=Failures").json(), [])
