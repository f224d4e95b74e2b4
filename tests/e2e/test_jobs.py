"""Jobs in the running application: files from the pages, and workers that die in the middle of every kind."""

from __future__ import annotations

import os
import signal
import threading
import unittest
from contextlib import suppress
from typing import Any

from playwright.sync_api import expect

from tests.e2e.application import JOB_MS, Application, module_browser, until, visit

APP = Application()
BROWSER: dict[str, Any] = {}
ASYNC = {"Prefer": "respond-async"}
OPEN = ("waiting", "working")
ROWS = 6000


def setUpModule() -> None:
    """One application and one browser for all of these."""
    unittest.addModuleCleanup(APP.close)
    APP.start()
    BROWSER["browser"] = module_browser()


class FromThePages(unittest.TestCase):
    def test_a_file_is_made_by_a_worker_and_comes_when_it_is_done(self) -> None:
        page = visit(self, APP, BROWSER["browser"])
        page.goto(f"{APP.address}/plans/BOOK")
        with page.expect_download(timeout=JOB_MS) as got:
            page.get_by_role("button", name="PDF", exact=True).click()
        self.assertEqual(got.value.suggested_filename, "BOOK.run-book.pdf")
        self.assertTrue(got.value.path().read_bytes().startswith(b"%PDF-"))
        page.goto(f"{APP.address}/estate")
        with page.expect_download(timeout=JOB_MS) as got:
            page.get_by_role("button", name="Export as CSV").click()
        self.assertTrue(got.value.path().read_text().startswith("site,name,"))
        page.goto(f"{APP.address}/jobs")
        line = page.get_by_role("row").filter(has_text="Run book of BOOK as PDF")
        expect(line).to_contain_text("Done")
        with page.expect_download(timeout=JOB_MS) as got:
            line.get_by_role("link", name="Download").click()
        self.assertTrue(got.value.path().read_bytes().startswith(b"%PDF-"))

    def test_what_nobody_works_at_waits_and_is_cancelled(self) -> None:
        stopped = APP.pid("workers")
        # The parent hands nothing on while it is stopped.
        os.kill(stopped, signal.SIGSTOP)
        try:
            page = visit(self, APP, BROWSER["browser"])
            page.goto(f"{APP.address}/plans/HARB")
            page.get_by_role("button", name="Rehearse it").click()
            dialog = page.get_by_role("dialog")
            expect(dialog.get_by_role("status")).to_contain_text("Waiting for a worker")
            dialog.get_by_role("button", name="Cancel").click()
            expect(dialog.get_by_role("status")).to_have_count(0)
            page.goto(f"{APP.address}/jobs")
            line = page.get_by_role("row").filter(has_text="Rehearsal of HARB")
            expect(line).to_contain_text("Cancelled")
        finally:
            os.kill(stopped, signal.SIGCONT)


class WorkersThatDie(unittest.TestCase):
    """``kill -9`` of whoever works, once in every job: none is lost, none is done twice."""

    def setUp(self) -> None:
        self.api = APP.api()
        self.killed: set[int] = set()
        over = threading.Event()
        # Some jobs take a tenth of a second: whoever works is looked for all the time.
        killer = threading.Thread(target=self.kill_who_works, args=(over,))
        killer.start()
        self.addCleanup(killer.join)
        self.addCleanup(over.set)

    def begin(self, path: str, body: Any = None) -> int:
        """Ask for something without waiting; the number of its job."""
        sent = {"X-CSRFToken": self.api.token, **ASYNC}
        reply = self.api.http.request("POST" if body else "GET", path, json=body, headers=sent)
        self.assertEqual(reply.status_code, 202, reply.text[:300])
        return int(reply.json()["id"])

    def kill_who_works(self, over: threading.Event) -> None:
        """Whoever works at a job for the first time dies, each job once."""
        while not over.wait(0.005):
            for row in APP.records("jobs_job")["jobs_job"]:
                if row["state"] == "working" and row["attempt"] == 1 and row["id"] not in self.killed:
                    self.killed.add(row["id"])
                    with suppress(ProcessLookupError):
                        os.kill(int(row["owner"].split(":")[-2]), signal.SIGKILL)

    def all_ended(self) -> bool:
        """Whether nothing waits and nothing is worked at."""
        return not any(row["state"] in OPEN for row in APP.records("jobs_job")["jobs_job"])

    def test_every_kind_outlives_its_worker(self) -> None:
        detail = self.api.get("/plans/BOOK")
        plan, version = detail["plan"], detail["version"]
        file = "site,name,cores,memory_mib,disks,nics,tags\n" + "".join(
            f"QUA,bulk-{number:05},2,2048,disk0:20@qua-bulk,,app=bulk\n" for number in range(ROWS)
        )
        sent = {"Content-Type": "application/octet-stream", "X-CSRFToken": self.api.token}
        began = self.api.http.post("/imports?name=bulk.csv", content=file.encode(), headers=sent).json()
        until(self.all_ended, "the file to be read")
        self.assertEqual(self.api.get(f"/imports/{began['id']}")["new"], ROWS)

        self.api.send("POST", f"/imports/{began['id']}", {"token": ""})
        until(self.all_ended, "the file to be taken over")
        asked = [
            self.begin("/export?as=json"),
            self.begin("/plans/BOOK/run-book.pdf"),
            self.begin("/plans/BOOK/helps", {"plan": plan, "based_on": version}),
            self.begin("/plans/BOOK/rehearsal", {"plan": plan}),
        ]
        until(self.all_ended, "all jobs to end")

        rows = {row["id"]: row for row in APP.records()["jobs_job"]}
        self.assertEqual({rows[pk]["state"] for pk in asked}, {"done"}, rows)
        self.assertGreater(len(self.killed), 3)
        again = [row for row in rows.values() if row["attempt"] == 2]
        self.assertGreater(len(again), 2, "workers died before anything was begun")
        written = self.api.get("/workloads?filter=app%3Dbulk&limit=1")
        self.assertEqual(written["matched"], ROWS)
        revisions = {
            row["revision"] for row in APP.records()["estate_workloadrow"] if row["name"].startswith("bulk-")
        }
        self.assertEqual(revisions, {1})
        # Of what an attempt made that died nothing is left.
        for part in APP.records()["jobs_jobpart"]:
            self.assertEqual(part["attempt"], rows[part["job_id"]]["attempt"])
        for pk in asked:
            self.assertEqual(self.api.http.get(f"/jobs/{pk}/result").status_code, 200)
