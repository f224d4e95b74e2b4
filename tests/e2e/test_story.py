"""The whole story in the browser: by mouse, by keyboard, by two people, on a phone."""

from __future__ import annotations

import re
import unittest
from collections import Counter
from typing import Any

from playwright.sync_api import Page, Route, expect

from tests.e2e.application import PATIENCE_MS, Application, module_browser, tab_to, until, visit

APP = Application()
PLAYWRIGHT: dict[str, Any] = {}


def setUpModule() -> None:
    """One application and one browser for all of these."""
    unittest.addModuleCleanup(APP.close)
    APP.start()
    PLAYWRIGHT["browser"] = module_browser()


class Story(unittest.TestCase):
    """With a page of its own, signed in."""

    width, height = 1280, 800

    def setUp(self) -> None:
        self.page = self.new_page()

    def new_page(self) -> Page:
        """Somebody at another desk."""
        page = visit(self, APP, PLAYWRIGHT["browser"], self.width, self.height)
        expect(page.get_by_role("heading", level=1)).to_contain_text("If Quayside were lost this minute")
        return page

    def card(self, name: str, page: Page | None = None) -> Any:
        """A workload on the wave board."""
        return (page or self.page).locator(f"[data-workload={name}]")

    def wave(self, number: int, page: Page | None = None) -> Any:
        """A column of the wave board."""
        return (page or self.page).locator(f"section[aria-label^='Wave {number},']")

    def likely(self) -> str:
        """The forecast in the sentence of the plan."""
        return self.page.get_by_role("heading", level=1).locator("b").first.inner_text()

    def save(self, page: Page) -> None:
        """As the next version, with the changes as its summary."""
        page.get_by_role("button", name=re.compile("^Save version")).click()
        page.get_by_role("button", name="Save it").click()

    def open_plan(self, name: str, page: Page | None = None) -> None:
        """From the navigation."""
        at = page or self.page
        at.get_by_role("navigation").get_by_role("link", name=name).click()
        expect(at.get_by_role("img", name="Score")).to_be_visible()


class ATestFromBeginningToEnd(Story):
    """Booking end to end."""

    def test_edit_start_watch_judge_and_clean_up(self) -> None:
        page = self.page
        expect(page.get_by_label("Sites")).to_contain_text("35 running")
        self.open_plan("Booking end to end")
        before = self.likely()

        self.card("broker-01").drag_to(self.wave(1))
        expect(self.wave(1)).to_contain_text("broker-01")
        self.card("db-book-02").click()
        delay = page.get_by_label("Boot delay, seconds").last
        delay.fill("420")
        delay.press("Enter")
        expect(page.get_by_test_id("draft")).to_contain_text("db-book-02 waits 360 s longer")
        expect(page.get_by_test_id("draft")).to_contain_text("broker-01 moved from wave II to I")
        expect(page.get_by_role("heading", level=1)).not_to_contain_text(f"back in {before} ")
        self.assertNotEqual(self.likely(), before)
        self.save(page)
        expect(page.get_by_test_id("draft")).to_contain_text("Saved as version 2")

        page.get_by_role("link", name="Start a test").click()
        expect(page.get_by_text("Production at Quayside keeps running")).to_be_visible()
        page.get_by_role("button", name=re.compile("the newest point before them")).click()
        chosen = page.get_by_text(re.compile("^Chosen: ")).inner_text()
        self.assertRegex(chosen, r"\d+ \w{3}, 0\d:\d\d:\d\d")
        probed = page.get_by_role("combobox", name="Services probed continuously")
        probed.focus()
        page.keyboard.press("Enter")
        page.get_by_role("option", name="book-db of db-book-01").click()
        page.keyboard.press("Escape")
        expect(page.get_by_text("One service is probed continuously")).to_be_visible()
        pace = page.get_by_role("spinbutton", name="Pace")
        pace.fill("150")
        pace.press("Enter")
        page.get_by_role("button", name="Start the test").click()

        expect(page.get_by_role("heading", level=1)).to_contain_text("Booking end to end")
        expect(page.get_by_label("Sites")).to_contain_text("Booking end to end: test")
        expect(page.get_by_role("img", name="Score")).to_contain_text("now")
        run = int(page.url.rsplit("/", 1)[1])
        expect(page.get_by_text("The test waits for your verdict")).to_be_visible()
        expect(page.get_by_role("heading", level=1)).to_contain_text("waits for your verdict")
        there = APP.site(f"/remains?mark=t{run}")["remains"]
        self.assertEqual(Counter(what.split()[0] for what in there), {"copy": 11, "sandbox": 5, "front": 1})

        probes = page.get_by_role("region", name="Probes")
        expect(probes).to_contain_text(re.compile(r"book-db of db-book-01 answered from [\d:]+, no break"))

        page.get_by_label("Notes").fill("Booking answered from before the burst.")
        page.get_by_text("Keep this as a known trap of").click()
        page.get_by_role("button", name="Passed").click()
        expect(page.get_by_test_id("leak-check")).to_contain_text(
            "Nothing of the test is left at Hilltop", timeout=60_000
        )
        expect(page.get_by_role("heading", level=1)).to_contain_text("Nothing is left behind")
        self.assertEqual(APP.site(f"/remains?mark=t{run}")["remains"], [])
        self.production_never_noticed(run)

        page.get_by_role("navigation").get_by_role("link", name="Runs").click()
        row = page.get_by_role("row", name=re.compile(f"^Select run {run} "))
        expect(row).to_contain_text("passed")
        expect(row).to_contain_text("before the burst")
        page.get_by_role("navigation").get_by_role("link", name="Readiness").click()
        expect(page.get_by_role("row", name=re.compile("Booking end to end"))).to_contain_text(
            "passed just now"
        )
        # Whoever starts it next reads the trap, and marks it when it is one no more.
        page.goto(f"{APP.address}/plans/BOOK/start")
        trap = page.get_by_role("listitem").filter(has_text="BOOK: Booking answered from before the burst.")
        expect(trap).to_contain_text(f"in run {run}")
        trap.get_by_role("button", name="It is solved").click()
        expect(trap).to_have_count(0)

    def production_never_noticed(self, run: int) -> None:
        """No effect at any site on anything but copies and sandboxes of this run."""
        mine = f"{APP.secrets['instance']}-{run}:"
        for code in ("QUA", "HIL", "NOR"):
            entries = [e for e in APP.site("/journal", code)["entries"] if e["key"].startswith(mine)]
            self.assertEqual(bool(entries), code == "HIL")
            for entry in entries:
                named = (
                    entry["subject"].endswith((f"--t{run}", f"-t{run}"))
                    or entry["effect"].get("mark") == f"t{run}"
                )
                self.assertTrue(named or entry["verb"] in ("prove-isolation", "name-copies"), entry)


class ByKeyboard(Story):
    """Without a mouse, at night."""

    def test_the_palette_the_keys_of_the_plan_and_a_run_that_is_aborted(self) -> None:
        page = self.page
        # Enter is for what was typed, also where the page has to ask for it first.
        asked: list[Route] = []
        page.route("**/api/v1/plans", lambda route: asked.append(route))
        page.reload()
        expect(page.get_by_role("heading", level=1)).to_contain_text("If Quayside were lost this minute")
        page.keyboard.press("Control+k")
        page.keyboard.type("switch night")
        page.keyboard.press("Enter")
        self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "night")
        page.keyboard.press("Control+k")
        page.keyboard.type("fleet plan")
        page.keyboard.press("Enter")
        expect(page.get_by_role("dialog")).to_contain_text("Looking …")
        for route in asked:
            route.continue_()
        page.unroute("**/api/v1/plans")
        expect(page.get_by_role("img", name="Score")).to_be_visible()

        for _ in range(2):
            page.keyboard.press("ArrowDown")
        expect(self.card("track-01")).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("3")
        expect(self.wave(3)).to_contain_text("track-01")
        page.keyboard.press("Control+z")
        expect(self.wave(1)).to_contain_text("track-01")
        page.keyboard.press("Control+Shift+z")
        expect(self.wave(3)).to_contain_text("track-01")
        page.keyboard.press("ArrowLeft")
        expect(self.wave(2)).to_contain_text("track-01")
        page.keyboard.press("Control+z")
        page.keyboard.press("Control+z")
        expect(page.get_by_test_id("draft")).to_contain_text("Version 2")
        page.keyboard.press("d")
        expect(page.get_by_label("Boot delay, seconds").last).to_be_focused()
        page.keyboard.press("Escape")

        page.keyboard.press("Control+k")
        page.keyboard.type("start test fleet")
        page.keyboard.press("Enter")
        slider = page.get_by_role("slider")
        slider.focus()
        slider.press("ArrowLeft")
        expect(page.get_by_text(re.compile("^Chosen: .* before now"))).to_be_visible()
        expect(page.get_by_text("Nothing blocks it.")).to_be_visible()
        page.keyboard.press("Control+Enter")
        expect(page.get_by_test_id("run-time")).to_be_visible()
        page.keyboard.press("h")
        # Not by what is said of it: until the page knows, the key would hold it once more.
        expect(page.get_by_role("button", name="Resume")).to_be_visible()
        expect(page.get_by_role("button", name="Hold all")).to_have_count(0)
        # An answer that comes late does not close what was opened since.
        late: list[Route] = []
        page.route("**/controls", lambda route: late.append(route))
        page.keyboard.press("h")
        until(lambda: page.wait_for_timeout(20) or late, "the page to ask")
        answer = late[0].fetch()
        expect(page.get_by_role("button", name="Hold all")).to_be_visible()
        page.keyboard.press("a")
        # A dialog takes the focus when it has opened: until then it would take it from the button.
        expect(page.get_by_role("dialog").locator(":focus")).to_have_count(1)
        with page.expect_response("**/controls"):
            late[0].fulfill(response=answer)
        page.unroute("**/controls")
        expect(page.get_by_role("dialog").locator(":focus")).to_have_count(1)
        page.get_by_label("Reason").fill("wrong evening")
        page.get_by_role("button", name="Abort and clean up").press("Enter")
        expect(page.get_by_test_id("leak-check")).to_contain_text(
            "Nothing of the test is left", timeout=90_000
        )
        expect(page.get_by_role("heading", level=1)).to_contain_text("was aborted and cleaned up")


class FromSignInToVerdictByKeyboard(unittest.TestCase):
    """No mouse at all, from the first page to the verdict of a test and its clean-up."""

    def test_a_test_is_started_answered_judged_and_cleaned_up(self) -> None:
        page = PLAYWRIGHT["browser"].new_page(reduced_motion="reduce")
        self.addCleanup(page.close)
        page.set_default_timeout(PATIENCE_MS)
        keys = page.keyboard
        page.goto(APP.address)
        tab_to(page, "Password")
        keys.insert_text(APP.password)
        keys.press("Enter")
        expect(page.get_by_role("button", name="Sign out")).to_be_visible()
        keys.press("Control+k")
        keys.type("start test fleet")
        expect(page.get_by_role("option").first).to_contain_text("Fleet")
        keys.press("Enter")
        expect(page.get_by_text("Nothing blocks it.")).to_be_visible()
        tab_to(page, "Pace")
        keys.press("Control+a")
        keys.type("200")
        keys.press("Tab")
        tab_to(page, "Start the test")
        keys.press("Enter")
        expect(page.get_by_text("Pilot house listens").first).to_be_visible()
        tab_to(page, "Confirmed, go on")
        keys.press("Enter")
        expect(page.get_by_text("The test waits for your verdict")).to_be_visible()
        tab_to(page, "Notes")
        keys.type("Heard at the pilot house.")
        tab_to(page, "✓ Passed")
        keys.press("Enter")
        expect(page.get_by_test_id("leak-check")).to_contain_text(
            "Nothing of the test is left", timeout=90_000
        )
        expect(page.get_by_role("heading", level=1)).to_contain_text("Nothing is left behind")


class TwoPeople(Story):
    """Nobody's edit is lost silently, and a circle is named."""

    def test_the_second_is_told_what_changed_and_takes_it_over(self) -> None:
        other = self.new_page()
        for page in (self.page, other):
            self.open_plan("Harbour core first", page)
        page = self.page
        self.card("ca-01").click()
        page.keyboard.press("3")
        expect(self.wave(3)).to_contain_text("ca-01")
        self.card("name-01", other).drag_to(self.wave(1, other))
        self.save(other)
        expect(other.get_by_test_id("draft")).to_contain_text("Saved as version 2")
        # Whoever has changed nothing is shown the newest; a draft stays what it is.
        expect(page.get_by_test_id("draft")).to_contain_text("Draft on version 1")
        self.save(page)
        told = page.get_by_role("dialog", name="Somebody saved in between")
        expect(told).to_contain_text(
            "administrator saved version 2 in between: name-01 moved from wave II to I"
        )
        told.get_by_role("button", name="Take their changes into my draft").click()
        expect(self.wave(1)).to_contain_text("name-01")
        expect(self.wave(3)).to_contain_text("ca-01")
        self.save(page)
        expect(page.get_by_test_id("draft")).to_contain_text("Saved as version 3")

    def test_a_circle_of_dependencies_is_named_and_refused(self) -> None:
        page = self.page
        self.open_plan("Reporting to Northgate")
        self.card("ware-01").drag_to(self.wave(2))
        self.card("ware-01").click()
        page.keyboard.press("l")
        page.keyboard.type("reports-01")
        page.get_by_role("option", name="reports-01").click()
        page.keyboard.press("Escape")
        words = "ware-01 waits for reports-01 waits for ware-01"
        expect(page.locator(".findings")).to_contain_text(
            re.compile(f"{words}|reports-01 waits for ware-01 waits")
        )
        self.save(page)
        expect(page.get_by_role("alert")).to_contain_text("none of them could ever start")
        page.reload()
        expect(page.get_by_test_id("draft")).to_contain_text("Draft on version 1")
        page.get_by_role("button", name="Discard").click()
        expect(page.get_by_test_id("draft")).to_contain_text("First version")


class OnAPhone(Story):
    """The run page at 390 px: a person answers a hold."""

    width, height = 390, 844

    def test_a_hold_is_answered_and_nothing_sticks_out(self) -> None:
        page = self.page
        run = APP.api().start_test("FLEET", 200)
        page.goto(f"{APP.address}/runs/{run}")
        expect(page.get_by_text("Pilot house listens").first).to_be_visible()
        page.get_by_role("button", name="Confirmed, go on").click()
        expect(page.get_by_text("The test waits for your verdict")).to_be_visible()
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)
        page.get_by_role("button", name="Inconclusive").click()
        expect(page.get_by_test_id("leak-check")).to_contain_text(
            "Nothing of the test is left", timeout=60_000
        )


class Strangers(unittest.TestCase):
    """Who cannot sign in is told so."""

    def test_a_wrong_password_is_a_sentence(self) -> None:
        page = PLAYWRIGHT["browser"].new_page()
        self.addCleanup(page.close)
        page.goto(f"{APP.address}/runs")
        page.get_by_label("Password").fill("wrong")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("alert")).to_contain_text("Name and password do not belong together.")


if __name__ == "__main__":
    unittest.main()
