"""Live runs in the browser: a planned failover that is rolled back, a whole disaster and the way home, a phone."""

from __future__ import annotations

import re
import unittest
from typing import Any

import dns.message
import dns.query
import httpx
from playwright.sync_api import Page, Request, Route, expect

from tests.e2e.application import Application, choose, module_browser, until, visit

APP = Application()
PLAYWRIGHT: dict[str, Any] = {}
PACE = "200"
SLOWER = "40"
"""Where somebody does things while machines come up."""
NAME, HERE, THERE = "booking.tidewell.example", "203.0.113.10", "198.51.100.10"
"""The name, and the front door that it leads to at either end."""

HEARS = """window.EventSource = class extends EventSource { constructor(address) {
    super(address);
    this.addEventListener("message", (event) => (window.heard = JSON.parse(event.data).status?.abort_does)); } }"""
"""What an abort would do, as the stream of the run said it last."""
WATCH = """name => { window.places = new Set();
    const look = () => { const key = [...document.querySelectorAll("button")].find((one) => one.innerText === name);
        if (key) places.add(key.getBoundingClientRect().y + scrollY); requestAnimationFrame(look); };
    look(); }"""
"""Where a button is from now on, counted down from the top of the page."""


def setUpModule() -> None:
    """One application and one browser for all of these."""
    unittest.addModuleCleanup(APP.close)
    APP.start()
    PLAYWRIGHT["browser"] = module_browser()


class Live(unittest.TestCase):
    """With a page of its own, signed in."""

    width, height = 1280, 800

    def setUp(self) -> None:
        self.page: Page = visit(self, APP, PLAYWRIGHT["browser"], self.width, self.height)

    @property
    def sentence(self) -> Any:
        """The sentence that the page opens with."""
        return self.page.get_by_role("heading", level=1)

    def running(self, text: str) -> None:
        """Wait until the site line says so."""
        expect(self.page.get_by_label("Sites")).to_contain_text(text)

    def start(self, plan: str, kind: str, at: str = PACE) -> None:
        """From the start page, typing the code."""
        page = self.page
        page.goto(f"{APP.address}/plans/{plan}/start?kind={kind}")
        pace = page.get_by_role("spinbutton", name="Pace")
        expect(pace).to_have_value("20")
        pace.fill(at)
        pace.press("Tab")
        button = page.get_by_role("button", name=re.compile("^Start the"))
        if kind != "re-protect":
            expect(button).to_be_disabled()
            page.get_by_label("The plan's code, to confirm").fill(plan)
        expect(button).to_be_enabled()
        sent: list[Request] = []
        page.on("request", lambda request: sent.append(request))
        button.click()
        try:
            expect(page).to_have_url(re.compile(r"/runs/\d+$"))
        except AssertionError:
            said = page.get_by_role("region", name="Start").inner_text()
            asked = [(one.url, one.existing_response) for one in sent if one.method == "POST"]
            raise AssertionError(f"No run began. It says: {said!r}. It asked: {asked}") from None

    def name_leads_to(self) -> list[str]:
        """As a client asks the name server."""
        question = dns.message.make_query(NAME, "A")
        answer = dns.query.udp(question, "127.0.0.1", port=APP.options.names_port, timeout=20)
        return [data.to_text() for rows in answer.answer for data in rows]

    def outside(self, code: str, address: str) -> str:
        """What somebody gets who comes to a site from outside; they have no token."""
        port = APP.options.site_port + ("QUA", "HIL", "NOR").index(code)
        return httpx.get(f"http://127.0.0.1:{port}/outside/{address}/443", timeout=20, trust_env=False).text

    def need(self, text: str) -> Any:
        """A card under 'needs you'."""
        return self.page.get_by_label("Needs you").get_by_role("article").filter(has_text=text)

    def answer_until(self, wanted: str) -> None:
        """Answer every hold until something else is wanted."""
        seen = self.need(wanted)
        go_on = self.page.get_by_role("button", name="Confirmed, go on")
        for _ in range(10):
            expect(seen.or_(go_on).first).to_be_visible()
            if seen.is_visible():
                return
            with_hold = go_on.first
            with_hold.click()
            expect(with_hold).not_to_be_visible()
        raise AssertionError(f"{wanted!r} never came")

    def run_number(self) -> int:
        """The run of this page."""
        return int(self.page.url.rsplit("/", 1)[1])


class APlannedFailover(Live):
    def not_right_at_first(self) -> None:
        """A person is asked on every page, and says that it is not right; the run goes on waiting."""
        page, said = self.page, "Waiting for you: Till office confirms"
        expect(page.get_by_test_id("waits")).to_contain_text(said)
        expect(page).to_have_title(re.compile(f"^● {said}"))
        at_run = page.url
        page.get_by_role("navigation").get_by_role("link", name="Estate").click()
        expect(page.get_by_test_id("said")).to_contain_text(said)
        page.get_by_role("link", name=re.compile(f"Booking end to end {said}")).click()
        expect(page).to_have_url(at_run)
        card = self.need("Till office confirms")
        expect(card.get_by_role("button", name="Not right")).to_be_disabled()
        card.get_by_label("What you saw").fill("The card was refused.")
        card.get_by_role("button", name="Not right").click()
        expect(card).to_contain_text("Not right, says administrator: The card was refused.")
        expect(card).to_contain_text("What can be done: Ask the payments desk")

    def test_it_moves_and_is_rolled_back(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/plans/BOOK/start")
        expect(page.get_by_text("Nothing blocks it.")).to_be_visible()
        asked: list[Route] = []
        page.route("**/preflight", lambda route: asked.append(route))
        page.get_by_role("radio", name=re.compile("^Move it to Hilltop")).click()
        # Until the server has said what a failover would do, nothing is said of it, and none can be started.
        until(lambda: page.wait_for_timeout(20) or asked, "the page to ask")
        expect(page.get_by_text("Nothing blocks it.")).to_have_count(0)
        page.get_by_label("The plan's code, to confirm").fill("BOOK")
        expect(page.get_by_role("button", name="Start the planned failover")).to_be_disabled()
        for route in asked:
            route.continue_()
        page.unroute("**/preflight")
        expect(page.get_by_text("11 workloads at Quayside are shut down")).to_be_visible()
        expect(page.get_by_text(re.compile("all of it can be rolled back"))).to_be_visible()
        # It is known what the name leads to as soon as the keeper has read its zone.
        expect(page.get_by_text(f"{NAME} (A) will lead to {THERE}, and leads to {HERE} now.")).to_be_visible()
        expect(page.get_by_text(f"opens at {THERE} at Hilltop and leads to web-01 there")).to_be_visible()
        self.assertEqual(self.outside("QUA", HERE), "book-web is up: web-01 at QUA\n")
        self.start("BOOK", "planned")
        expect(page.get_by_label("Outage")).to_contain_text("and counting")
        expect(page.get_by_label("Copies")).to_contain_text("all fenced")
        self.not_right_at_first()
        self.answer_until("Commit, or roll back?")
        expect(page.get_by_test_id("waits")).to_contain_text("Waiting for you to commit or roll back")
        expect(page.get_by_role("button", name="Abort …")).to_have_count(0)
        expect(self.sentence).to_contain_text("is up at Hilltop")
        self.running("13 running")
        self.assertEqual(self.name_leads_to(), [THERE])
        self.assertEqual(self.outside("HIL", THERE), "book-web is up: web-01 at HIL\n")
        self.assertIn("Nothing answers", self.outside("QUA", HERE))
        # Somebody closes the browser and comes back: the same run, the same question.
        page.reload()
        self.need("Commit, or roll back?").get_by_role("button", name="Roll back").click()
        self.page.get_by_role("button", name="Roll it back").click()
        expect(self.sentence).to_contain_text("was rolled back")
        self.running("35 running")
        self.assertEqual(APP.site(f"/remains?mark=p{self.run_number()}")["remains"], [])
        self.assertEqual(self.name_leads_to(), [HERE])
        self.assertEqual(self.outside("QUA", HERE), "book-web is up: web-01 at QUA\n")
        self.assertIn("Nothing answers", self.outside("HIL", THERE))

    def test_aborting_says_what_it_would_do_from_here(self) -> None:
        page, lost = self.page, []

        def lose_an_answer(route: Route) -> None:
            """The run has begun, and the line breaks before anybody hears of it."""
            lost.append(route.fetch().json()["id"])
            route.abort("internetdisconnected")

        page.route("**/api/v1/runs", lose_an_answer, times=1)
        page.add_init_script(HEARS)
        self.start("HARB", "planned", at=SLOWER)
        self.assertEqual(lost, [self.run_number()])
        page.evaluate(WATCH, "Abort …")
        expect(page.get_by_label("Copies")).to_contain_text("all fenced")
        page.get_by_role("button", name="Abort …").click()
        self.assertEqual(page.evaluate("places.size"), 1, "the key stays where it was as machines come up")
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text(
            re.compile(r"workloads? (are|is) started again at Quayside, in their order")
        )
        dialog.get_by_label("Reason").fill("the wrong evening")
        take_back = dialog.get_by_role("button", name="Abort and take it back")
        take_back.hover()
        said = dialog.locator("b").inner_text()
        page.mouse.down()
        # What comes while the finger is on it does not move it away.
        page.wait_for_function("said => heard !== said", arg=said)
        page.mouse.up()
        expect(self.sentence).to_contain_text("aborted and taken back")
        self.running("35 running")


class Zones(Live):
    def test_a_zone_is_tried_and_another_one_added_and_forgotten(self) -> None:
        page = self.page
        page.get_by_role("link", name="Settings").click()
        page.get_by_role("link", name="Names").click()
        expect(self.sentence).to_have_text("1 zone can be changed when workloads move.")
        zone = page.get_by_role("region", name="tidewell.example")
        expect(zone.get_by_role("row").filter(has_text=NAME)).to_be_visible()
        zone.get_by_role("button", name="Try it: tidewell.example").click()
        expect(zone.get_by_role("status")).to_contain_text("takes changes with this key")
        page.get_by_role("button", name="Add a zone").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Zone", exact=True).fill("ferries.example")
        dialog.get_by_label("Server that takes changes").fill(f"127.0.0.1:{APP.options.names_port}")
        dialog.get_by_label("Name of the key").fill("nobody")
        dialog.get_by_label("Secret of the key").fill("short")
        dialog.get_by_role("button", name="Add it").click()
        expect(dialog).to_contain_text("The secret is no base64 of 16 to 128 bytes.")
        dialog.get_by_label("Secret of the key").fill("c2hhbGwgYmUgbG9uZyBlbm91Z2ggZm9yIGl0IQ==")
        dialog.get_by_role("button", name="Add it").click()
        expect(self.sentence).to_have_text("ferries.example could not be read.")
        page.get_by_role("button", name="Forget ferries.example").click()
        page.get_by_role("button", name="Forget it").click()
        expect(self.sentence).to_have_text("1 zone can be changed when workloads move.")


class TheWorstDay(Live):
    def test_a_site_is_lost_and_everything_comes_home_again(self) -> None:
        page = self.page
        page.get_by_role("link", name="Practice lab").click()
        page.get_by_role("button", name="Switch Quayside off").click()
        expect(self.sentence).to_contain_text("Quayside misbehaves")
        self.running("does not answer")
        page.goto(APP.address)
        # The board says what is down and since when, and offers what to do about it first.
        expect(self.sentence).to_contain_text(
            re.compile(r"^Quayside does not answer since \d\d:\d\d UTC, for ")
        )
        expect(self.sentence).to_contain_text(
            re.compile(r"35 workloads ran there; \d+ can be brought up at Hilltop")
        )
        expect(page.get_by_role("link", name=re.compile("^Recover ")).first).to_be_visible()

        self.start("ALL", "disaster")
        # The browser is closed and opened again in the middle.
        address = page.url
        page.goto("about:blank")
        page.goto(address)
        self.need("source copies are not confirmed off").get_by_role(
            "button", name="Continue although"
        ).click()
        self.answer_until("Commit, or roll back?")
        self.another_point("Time and trust")
        self.answer_until("Commit, or roll back?")
        self.need("Commit, or roll back?").get_by_role("button", name="Commit").click()
        self.page.get_by_role("button", name="Commit, for good").click()
        expect(self.sentence).to_contain_text("the failover was committed")
        expect(page.get_by_role("alert").filter(has_text="are not confirmed off")).to_be_visible()
        disaster = self.run_number()
        self.running("27 running")  # one of the 28 is left off

        page.get_by_role("link", name="Practice lab").click()
        page.get_by_role("button", name="Put all right again").click()
        expect(self.sentence).to_contain_text("behave")
        until(lambda: APP.api().get(f"/runs/{disaster}")["status"]["found_running"] == [], "the fences")
        until(lambda: not self.on_at("QUA"), "Quayside's copies to stay off")
        # The run is over: what it says is past, and its fences have been delivered since.
        page.goto(f"{APP.address}/runs/{disaster}")
        expect(page.get_by_text("has been fenced since")).to_be_visible()
        # Where the keeper had no time for twenty seconds they came up before their fences were there; then that
        # is said until somebody has looked.
        found = page.get_by_label("Found running")
        if found.is_visible():
            found.get_by_role("button", name="Acknowledge").click()
        expect(page.get_by_role("alert")).to_have_count(0)
        expect(page.get_by_text("does not answer")).to_have_count(0)

        page.goto(APP.address)
        page.get_by_role("link", name="Re-protect").click()
        self.start("ALL", "re-protect")
        expect(self.sentence).to_contain_text("was protected again")

        page.goto(APP.address)
        page.get_by_role("link", name="Bring it home").click()
        expect(page.get_by_role("radio", name=re.compile("^Bring it home to Quayside"))).to_be_checked()
        self.start("ALL", "planned")
        self.answer_until("Commit, or roll back?")
        self.need("Commit, or roll back?").get_by_role("button", name="Commit").click()
        self.page.get_by_role("button", name="Commit, for good").click()
        expect(self.sentence).to_contain_text("the failover was committed")
        home = self.run_number()
        clocks = APP.api().get(f"/runs/{home}")["status"]["outages"]
        self.assertTrue(clocks)
        away = [one["workload"] for one in clocks if one["to_s"] is None]
        self.assertEqual(away, [one["workload"] for one in clocks if one["left_off"]])
        self.start("ALL", "re-protect")
        expect(self.sentence).to_contain_text("was protected again")
        self.running("34 running")  # what is left off on the way out is left off on the way home
        self.same_disks(home)
        done = APP.command_of_django("check_integrity", "--journals")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def another_point(self, group: str) -> None:
        """Bring a group up once more from an older point."""
        page = self.page
        page.get_by_role("button", name="Another point").click()
        choose(page.get_by_label("Group", exact=True), group)
        page.get_by_role("combobox", name="Point", exact=True).click()
        page.get_by_role("option").locator("visible=true").nth(3).click()
        page.get_by_role("button", name="Bring it up from there").click()
        expect(self.sentence).to_contain_text("is coming up at Hilltop")

    def on_at(self, code: str) -> list[str]:
        """Workloads of Booking that had power at a site after the disaster, by its journal."""
        entries = APP.site("/journal", code)["entries"]
        return [e["subject"] for e in entries if e["verb"] == "fence" and e["effect"]["was_running"]]

    def same_disks(self, run: int) -> None:
        """What was fenced and what was promoted in the planned leg hold the same, by checksum."""
        mine = f"{APP.secrets['instance']}-{run}:"
        fenced = {
            entry["subject"]: entry["effect"]["checksum"]
            for entry in APP.site("/journal", "HIL")["entries"]
            if entry["verb"] == "fence" and entry["key"].startswith(mine)
        }
        promoted: dict[str, str] = {}
        for entry in APP.site("/journal", "QUA")["entries"]:
            if entry["verb"] == "promote" and entry["key"].startswith(mine):
                promoted |= entry["effect"]["checksums"]
        self.assertEqual(len(fenced), 26)
        self.assertEqual(promoted, fenced)


class WithAPhone(Live):
    """After the worst day, by the order of names: what is committed stays."""

    width, height = 390, 844

    def fits(self) -> None:
        """Nothing goes beyond the edge."""
        self.assertLessEqual(self.page.evaluate("document.documentElement.scrollWidth"), self.width)

    def test_a_failover_from_the_board_to_its_commit(self) -> None:
        page = self.page
        page.get_by_role("link", name="Booking end to end").first.click()
        expect(page.get_by_role("img", name="Score")).to_be_visible()
        self.fits()
        page.get_by_role("link", name="Start a test").click()
        page.get_by_role("radio", name=re.compile("^Move it to Hilltop")).click()
        expect(page.get_by_text(re.compile("are shut down"))).to_be_visible()
        self.fits()
        self.start("BOOK", "planned")
        expect(page.get_by_test_id("waits")).to_contain_text("Waiting for you")
        self.fits()
        self.answer_until("Commit, or roll back?")
        self.fits()
        self.need("Commit, or roll back?").get_by_role("button", name="Commit").click()
        page.get_by_role("button", name="Commit, for good").click()
        expect(self.sentence).to_contain_text("the failover was committed")
        self.fits()


if __name__ == "__main__":
    unittest.main()
