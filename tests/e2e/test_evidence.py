"""Evidence in the browser: from a run to its report, beside another, proved by a stranger, on the calendar."""

from __future__ import annotations

import io
import json
import re
import subprocess
import sys
import unittest
import zipfile
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from PIL import Image
from playwright.sync_api import Page, expect

from maestoso.engine.clock import SystemClock
from maestoso.server.config.options import ROOT
from tests.e2e.application import JOB_MS, Application, choose, fill_moment, module_browser, visit

APP = Application()
PLAYWRIGHT: dict[str, Any] = {}


def setUpModule() -> None:
    """One application and one browser for all of these."""
    unittest.addModuleCleanup(APP.close)
    APP.start(MAESTOSO_PACE="60")
    PLAYWRIGHT["browser"] = module_browser()


class Evidence(unittest.TestCase):
    """With a page of its own, signed in."""

    def setUp(self) -> None:
        self.page: Page = visit(self, APP, PLAYWRIGHT["browser"], 1280, 800)

    @property
    def sentence(self) -> Any:
        """The sentence that the page opens with."""
        return self.page.get_by_role("heading", level=1)

    def go(self, name: str) -> None:
        """By the list of pages at the left."""
        self.page.get_by_role("navigation", name="Pages").get_by_role("link", name=name, exact=True).click()

    def tab(self, name: str) -> None:
        """By the parts of the evidence page."""
        self.page.get_by_role("navigation", name="Evidence").get_by_role("link", name=name).click()

    def fetched(self, press: Any) -> Path:
        """What a press downloads."""
        with self.page.expect_download(timeout=JOB_MS) as waited:
            press.click()
        file = APP.folder / waited.value.suggested_filename
        waited.value.save_as(file)
        return file


class FromARun(Evidence):
    """To its report, its seal, another run, and all runs of its plan."""

    def test_two_runs_are_found_by_filter_and_compared(self) -> None:
        page = self.page
        self.go("Runs")
        choose(page.get_by_label("Plan", exact=True), "Booking end to end")
        expect(self.sentence).to_contain_text("2 runs fit")
        page.get_by_role("button", name="Keep this view").click()
        page.get_by_label("Name of the view").fill("Booking, all")
        page.get_by_role("button", name="Keep it").click()
        page.get_by_role("link", name="All runs").click()
        expect(self.sentence).to_contain_text("runs so far")
        page.get_by_role("link", name="Booking, all").click()
        expect(page.get_by_role("checkbox")).to_have_count(2)
        for box in page.get_by_role("checkbox").all():
            box.check()
        page.get_by_role("link", name="Compare the two").click()
        expect(self.sentence).to_contain_text("Booking end to end took 43 min less")
        expect(page.get_by_role("img", name="Score")).to_have_count(2)
        first = page.locator(".steps tbody tr").first
        expect(first).to_contain_text("unusual")
        page.keyboard.press("u")
        expect(page.get_by_label("only what is unusual")).to_be_checked()
        page.get_by_role("link", name="All runs of Booking end to end").click()
        expect(self.sentence).to_contain_text("1 of 2 runs")
        page.get_by_role("group", name="Time to recover").get_by_role("link").first.click()
        expect(self.sentence).to_contain_text("was tested at Hilltop and failed")

    def test_a_report_is_taken_along_and_a_stranger_checks_it(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/runs/6/evidence")
        expect(page.get_by_test_id("seal")).to_contain_text("✓ Sealed.")
        pdf = self.fetched(page.get_by_role("button", name="Report as PDF"))
        self.assertTrue(pdf.read_bytes().startswith(b"%PDF-"))
        with page.context.expect_page() as opened:
            page.get_by_role("link", name="Report as a page").click()
        expect(opened.value.get_by_role("heading", level=1)).to_contain_text(
            "Isolated test of Booking end to end"
        )
        opened.value.close()

        file = self.fetched(page.get_by_role("link", name="Evidence file"))
        page.get_by_role("link", name="check it").click()
        page.get_by_label("Evidence file").set_input_files(file)
        expect(self.sentence).to_contain_text("is genuine")
        expect(page.get_by_test_id("found")).to_contain_text("one of this installation")
        key = re.search(r"\S{43}", page.get_by_test_id("found").inner_text())
        assert key is not None

        check = self.fetched(page.get_by_role("link", name="check.py"))
        by_hand = [sys.executable, "-I", str(check), str(file), key[0]]
        done = subprocess.run(by_hand, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("It holds: run 6 of Booking end to end", done.stdout)
        ours = subprocess.run(
            [str(ROOT / "maestoso"), "verify", str(file)], capture_output=True, text=True, check=False
        )
        self.assertEqual(ours.returncode, 0, ours.stdout + ours.stderr)

        lines = file.read_text(encoding="utf-8").splitlines()
        lines[12] = lines[12].replace('"run_s":', '"run_s":1')
        file.write_text("\n".join(lines), encoding="utf-8")
        page.get_by_label("Evidence file").set_input_files([])
        page.get_by_label("Evidence file").set_input_files(file)
        expect(self.sentence).to_contain_text("is not to be trusted")
        expect(page.get_by_test_id("found")).to_contain_text("12")
        done = subprocess.run(by_hand, capture_output=True, text=True, check=False)
        self.assertEqual((done.returncode, done.stdout), (1, "event 12 is not the one that was sealed\n"))
        page.get_by_label("Evidence file").set_input_files(pdf)
        expect(page.get_by_role("alert")).to_contain_text("Give")

    def test_what_is_added_later_is_kept_apart_and_the_run_is_held(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/runs/3/evidence")
        page.get_by_label("A note, a lesson").fill("Lesson: **boot order** of the web nodes.")
        page.get_by_role("button", name="Add it").click()
        expect(page.locator("[data-addition='1']")).to_contain_text("Lesson: boot order of the web nodes.")
        page.get_by_label("Attach a file").set_input_files(
            {"name": "minutes.txt", "mimeType": "text/plain", "buffer": b"We met."}
        )
        kept = self.fetched(page.get_by_role("link", name="minutes.txt"))
        self.assertEqual(kept.read_bytes(), b"We met.")
        page.get_by_role("button", name="Put a legal hold on it").click()
        page.get_by_label("Why it must be kept").fill("Claim 12")
        page.get_by_role("button", name="Hold it").click()
        expect(page.get_by_text("⚖ Held: Claim 12")).to_be_visible()
        expect(page.get_by_test_id("seal")).to_contain_text("✓ Sealed.")
        self.go("Runs")
        expect(page.get_by_role("row", name=re.compile("^Select run 3 "))).to_contain_text("⚖ held")

    def test_reports_speak_in_the_name_that_was_set_once(self) -> None:
        page = self.page
        self.go("Settings")
        expect(page.get_by_label("Time zone")).to_have_value("Europe/Lisbon")
        page.get_by_label("Words on the first page").fill("For the harbour master.")
        page.get_by_role("button", name="Save it").click()
        expect(page.get_by_text("Saved. Reports look like this")).to_be_visible()
        shown = page.frame_locator("iframe")
        expect(shown.get_by_text("For the harbour master.")).to_be_visible()
        out = io.BytesIO()
        Image.new("RGB", (90, 30), "teal").save(out, "PNG")
        logo = {"name": "logo.png", "mimeType": "image/png", "buffer": out.getvalue()}
        page.get_by_label("PNG or JPEG").set_input_files(logo)
        expect(page.get_by_alt_text("The logo of reports")).to_be_visible()
        svg = {"name": "x.svg", "mimeType": "image/svg+xml", "buffer": b"<svg><script>1</script></svg>"}
        page.get_by_label("PNG or JPEG").set_input_files(svg)
        expect(page.get_by_role("alert")).to_contain_text("can hold a script")

    def test_a_plan_is_retired_and_brought_back(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/plans/REPT?retire=1")
        page.get_by_role("button", name="Retire it").click()
        pages = page.get_by_role("navigation", name="Pages")
        expect(pages.get_by_role("link", name="Reporting to Northgate")).to_have_count(0)
        self.go("Settings")
        page.get_by_role("navigation", name="Settings").get_by_role("link", name="Retired things").click()
        row = page.get_by_role("row").filter(has_text="Reporting to Northgate (REPT)")
        row.get_by_role("button", name="Restore").click()
        expect(self.sentence).to_contain_text("Reporting to Northgate would be back in")
        expect(pages.get_by_role("link", name="Reporting to Northgate")).to_be_visible()

    def test_an_auditor_takes_everything_as_one_file(self) -> None:
        self.go("Evidence")
        expect(self.sentence).to_contain_text("plans are proved in time")
        row = self.page.locator("[data-plan=ALL]")
        expect(row).to_contain_text("✕ never")
        row.get_by_role("button").click()
        expect(self.page.get_by_text("never answered in a run").first).to_be_visible()
        with zipfile.ZipFile(
            self.fetched(self.page.get_by_role("button", name="Everything for an auditor"))
        ) as found:
            self.assertIsNone(found.testzip())
            listed = [key["kid"] for key in json.loads(found.read("keys.json"))["keys"]]
            self.assertEqual(len(listed), 1)
            self.assertGreaterEqual(sum(name.endswith("report.pdf") for name in found.namelist()), 6)


class TheCalendar(Evidence):
    """Drills are scheduled, left out, and begin by themselves."""

    def test_a_drill_begins_by_itself_and_stands_in_evidence_and_audit_trail(self) -> None:
        page = self.page
        page.keyboard.press("Control+k")
        page.keyboard.type("drill calendar")
        page.keyboard.press("Enter")
        expect(self.sentence).to_contain_text("4 drills on the calendar")
        page.keyboard.press("n")
        dialog = page.get_by_role("dialog", name="A new drill")
        choose(dialog.get_by_label("Plan"), "Harbour core first")
        dialog.get_by_label("Name").fill("Tonight")
        # A whole minute that is still ahead when the form is filled in: times that have passed do not count.
        soon = SystemClock().now().astimezone(UTC) + timedelta(seconds=85)
        fill_moment(dialog.get_by_label("First time"), soon)
        dialog.get_by_label("Time zone").fill("Nowhere/Land")
        expect(dialog.get_by_role("alert")).to_contain_text("is no time zone")
        dialog.get_by_label("Time zone").fill("UTC")
        dialog.get_by_label("It starts by itself").check()
        expect(dialog.get_by_label("Next times")).to_contain_text(f"Once, on {soon.day} ")
        dialog.get_by_role("button", name="Put it on the calendar").click()
        expect(self.sentence).to_contain_text("5 drills on the calendar")
        line = page.locator("tr[data-drill]").filter(has_text="Tonight")
        expect(line.get_by_role("link", name="✓")).to_be_visible()
        line.get_by_role("link", name="✓").click()
        expect(self.sentence).to_contain_text("Harbour core first was tested at Hilltop")
        expect(page.get_by_test_id("seal")).to_contain_text("✓ Sealed.")
        expect(self.sentence).to_contain_text("and passed")
        expect(page.get_by_text("started by drill calendar")).to_be_visible()
        self.go("Evidence")
        self.tab("Audit trail")
        expect(self.sentence).to_contain_text("every entry is as it was written")
        entry = page.locator("tr[data-entry]").filter(has_text="Scheduled the drill").first
        entry.get_by_role("button").click()
        expect(page.get_by_text("Tonight").first).to_be_visible()

    def test_a_time_is_left_out_a_black_out_kept_and_the_feed_read(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/evidence/calendar")
        first = page.locator(".times li").filter(has_text="Booking end to end").first
        when = first.locator(".mono").inner_text()
        first.get_by_role("button", name="leave it out").click()
        again = page.locator(".times li").filter(has_text=when)
        expect(again).to_contain_text("left out by hand")
        again.get_by_role("button", name="take it in again").click()
        expect(again).not_to_contain_text("left out")
        page.get_by_label("What for").fill("Regatta")
        day = datetime(SystemClock().now().year + 1, 7, 1, tzinfo=UTC)
        fill_moment(page.get_by_label("From", exact=True), day.replace(hour=8))
        fill_moment(page.get_by_label("To", exact=True), day.replace(hour=7))
        page.get_by_role("button", name="Add the black-out").click()
        expect(page.get_by_role("alert")).to_contain_text("before it begins")
        fill_moment(page.get_by_label("To", exact=True), day.replace(hour=19))
        page.get_by_role("button", name="Add the black-out").click()
        expect(page.get_by_text("Regatta")).to_be_visible()
        page.get_by_role("button", name="Make a private address").click()
        address = page.get_by_test_id("feed").inner_text()
        self.assertIn("BEGIN:VCALENDAR", page.request.get(address).text())


if __name__ == "__main__":
    unittest.main()
