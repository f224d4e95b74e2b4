"""Making plans: by choosing, by file, by taking what is suggested; and bringing an old version back."""

from __future__ import annotations

import os
import signal
from typing import Any

from playwright.sync_api import expect

from tests.e2e import test_estate
from tests.e2e.test_estate import Journey


def setUpModule() -> None:
    """The browser of these journeys."""
    test_estate.setUpModule()


class Plans(Journey):
    """With the demo data."""

    def text(self) -> Any:
        """The plan file that is open."""
        return self.page.get_by_role("textbox", name="Plan file")

    def read_file(self, text: str) -> None:
        """Bring a file into the text that is open."""
        files = self.page.get_by_label("Plan file from disk")
        files.set_input_files({"name": "p.yaml", "mimeType": "application/yaml", "buffer": text.encode()})
        expect(self.text()).to_contain_text("maestoso")

    def file_of(self, code: str) -> str:
        """The newest version of a plan as its file."""
        return str(self.page.request.get(f"{self.app.address}/api/v1/plans/{code}/file").text())

    def test_a_plan_is_made_from_groups_and_again_from_its_file(self) -> None:
        page = self.page
        self.go("+ New plan")
        page.get_by_label("Name").fill("Signs by themselves")
        expect(page.get_by_label("Code, which live runs ask for")).to_have_value("SIGNSB")
        page.get_by_label("Quay signs").check()
        page.get_by_label("And whatever this filter finds there").fill("name:name-01")
        page.get_by_label("And whatever this filter finds there").press("Tab")
        expect(self.sentence()).to_contain_text("would bring up 4 workloads at Hilltop")
        waits = page.get_by_role("checkbox", name="announce-01 waits for timetable-01")
        expect(waits).to_be_checked()
        waits.uncheck()
        page.get_by_role("button", name="Make the plan").click()
        expect(self.sentence()).to_contain_text("Signs by themselves would be back in")
        expect(page.get_by_text("after timetable-01")).to_have_count(1)
        # The same as a file, under another code.
        page.keyboard.press("f")
        expect(self.text()).to_contain_text("code: SIGNSB")
        text = self.file_of("SIGNSB")
        page.keyboard.press("Escape")
        self.go("+ New plan")
        page.get_by_role("button", name="From a plan file …").click()
        self.read_file(text.replace("code: SIGNSB", "code: SIGNSF").replace("signs-01", "sings-01"))
        expect(page.get_by_text("Did you mean signs-01?")).to_be_visible()
        self.read_file(text.replace("code: SIGNSB", "code: SIGNSF").replace("rto:", "rot:"))
        expect(page.get_by_text("Did you mean rto?")).to_be_visible()
        expect(page.get_by_role("button", name="Take it into the draft")).to_be_disabled()
        page.get_by_role("button", name="line 6, column 1").click()
        expect(self.text()).to_be_focused()
        self.read_file(text.replace("code: SIGNSB", "code: SIGNSF"))
        expect(page.get_by_text("It reads as Signs by themselves")).to_be_visible()
        page.get_by_role("button", name="Take it into the draft").click()
        expect(self.sentence()).to_contain_text("Signs by themselves would be back in")
        self.assertEqual(self.file_of("SIGNSF"), text.replace("code: SIGNSB", "code: SIGNSF"))
        page.get_by_role("button", name="Retire the plan").click()
        page.get_by_role("button", name="Retire it").click()
        expect(self.sentence()).to_contain_text("If Quayside")
        expect(page.get_by_role("navigation").get_by_role("link", name="Signs by themselves")).to_have_count(
            1
        )

    def test_what_a_plan_lacks_is_taken_piece_by_piece(self) -> None:
        page = self.page
        self.go("Harbour core first")
        expect(self.sentence()).to_contain_text("Harbour core first would be back in")
        page.keyboard.press("s")
        expect(page.locator("[data-piece]")).to_have_count(4)
        page.get_by_role("checkbox", name="dir-02: it uses names of name-01").uncheck()
        page.get_by_role("button", name="Take 3 pieces into the draft").click()
        expect(page.get_by_test_id("draft")).to_contain_text("dir-01 moved from wave I to II")
        expect(page.get_by_test_id("draft")).to_contain_text("dir-01 now waits for name-01")
        page.get_by_role("button", name="Discard").click()

    def test_an_older_version_is_compared_and_brought_back(self) -> None:
        page = self.page
        self.go("Fleet and signs")
        page.get_by_role("button", name="Compare version 1").click()
        expect(page.get_by_role("dialog")).to_contain_text("track-02 waits 30 s longer")
        page.get_by_role("button", name="Bring version 1 back into the draft").click()
        expect(page.get_by_test_id("draft")).to_contain_text("track-02 waits 30 s less")
        page.get_by_role("button", name="Discard").click()

    def test_a_refused_plan_says_why_and_keeps_what_was_typed(self) -> None:
        page = self.page
        self.go("+ New plan")
        page.get_by_label("Name").fill("Booking")
        page.get_by_label("Code, which live runs ask for").fill("BOOK")
        page.get_by_label("Booking data").check()
        page.get_by_role("button", name="Make the plan").click()
        expect(page.get_by_role("alert")).to_contain_text("There is a plan BOOK already")
        expect(page.get_by_label("Name")).to_have_value("Booking")


class NothingIsLost(Journey):
    """What is typed outlives leaving the page, another tab and a server that is away; what is retired comes back."""

    def test_a_form_that_is_left_is_as_it_was_when_one_comes_back(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/protection/harbour/edit")
        name = page.get_by_label("Name", exact=True)
        expect(name).to_have_value("Harbour core")
        name.fill("Harbour heart")
        page.get_by_role("navigation").get_by_role("link", name="Estate").click()
        expect(self.sentence()).to_contain_text("workloads are known")
        page.goto(f"{self.app.address}/protection/harbour/edit")
        expect(page.get_by_text("This is what you typed here earlier and did not save.")).to_be_visible()
        expect(name).to_have_value("Harbour heart")
        page.get_by_role("button", name="Discard it").click()
        expect(name).to_have_value("Harbour core")
        page.reload()
        expect(name).to_have_value("Harbour core")
        expect(page.get_by_text("This is what you typed")).to_have_count(0)

    def test_two_tabs_at_one_plan_do_not_overwrite_each_other_unseen(self) -> None:
        said = "open in another tab of this browser"
        page = self.page
        page.goto(f"{self.app.address}/plans/HARB")
        expect(page.get_by_test_id("draft")).to_contain_text("Version")
        other = page.context.new_page()
        other.goto(f"{self.app.address}/plans/HARB")
        expect(other.get_by_text(said)).to_be_visible()
        expect(page.get_by_text(said)).to_have_count(0)
        page.close()
        # The other tab keeps the draft from now on.
        expect(other.get_by_text(said)).to_have_count(0)

    def test_what_was_retired_is_back_by_one_click(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/scripts")
        page.get_by_role("button", name="New script …").click()
        form = page.get_by_role("dialog")
        form.get_by_label("Name").fill("greet")
        form.get_by_role("button", name="Keep it").or_(form.get_by_role("button", name="Save")).first.click()
        line = page.get_by_role("row").filter(has_text="greet")
        expect(line).to_be_visible()
        line.get_by_role("button", name="Take greet out").click()
        expect(line).to_have_count(0)
        page.get_by_role("alert").filter(has_text="greet is out of the library.").get_by_role(
            "button", name="Undo"
        ).click()
        expect(line).to_be_visible()

    def test_sites_that_stand_still_are_lost_and_not_the_server(self) -> None:
        stalled = [self.app.pid(f"site-{code}") for code in ("HIL", "NOR")]
        for site in stalled:
            os.kill(site, signal.SIGSTOP)
        try:
            self.page.goto(self.app.address)
            expect(self.page.get_by_label("Sites").get_by_text("does not answer")).to_have_count(
                2, timeout=90_000
            )
            expect(self.page.get_by_text("No connection to the server.")).to_have_count(0)
        finally:
            for site in stalled:
                os.kill(site, signal.SIGCONT)
        expect(self.page.get_by_label("Sites").get_by_text("does not answer")).to_have_count(
            0, timeout=90_000
        )

    def test_a_server_that_is_away_is_said_within_seconds(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/runs")
        expect(page.get_by_role("table")).to_be_visible()
        page.context.set_offline(True)
        expect(page.get_by_text("No connection to the server.")).to_be_visible()
        page.get_by_role("navigation").get_by_role("link", name="Scripts").click()
        expect(page.get_by_role("alert").filter(has_text="This page could not be loaded")).to_be_visible()
        page.context.set_offline(False)
        expect(page.get_by_text("No connection to the server.")).to_have_count(0)
        page.get_by_role("link", name="Reload").click()
        expect(self.sentence()).to_contain_text("for plans to run")
