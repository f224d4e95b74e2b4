"""Booking end to end from nothing: by mouse, by keyboard alone, and by file; and the other faces of a plan."""

from __future__ import annotations

import re
from typing import Any

from playwright.sync_api import expect

from tests.e2e import test_estate
from tests.e2e.application import choose, tab_to
from tests.e2e.test_estate import Journey

WAVES = ("Names first", "Data", "Services", "Faces")
PLACES = {
    "dir-01": 1, "dir-02": 1, "name-01": 1, "db-book-01": 2, "db-book-02": 2, "broker-01": 2, "api-01": 3,
    "api-02": 3, "pay-relay-01": 3, "web-01": 4, "web-02": 4,
}  # fmt: skip
DELAYS = {"db-book-02": 60, "api-01": 30, "api-02": 30, "web-01": 45}
WAITS = {"db-book-02": "db-book-01", "pay-relay-01": "api-01"}
OUT = ("time-01", "ca-01")
CALL = (
    "Call the till office and **wait on the line** until they have\n\n"
    "1. taken a card payment in the training account,\n2. seen it clear.\n"
)
NOT_RIGHT = "Ask the payments desk to look at the bank line, and try the card once more."
FRONT, DOOR = "booking.tidewell.example", "booking-front"
TELL = "Booking is up at Hilltop. Tell the quays that tickets are sold again."
GROUPS = ("Harbour core", "Time and trust", "Booking data", "Booking services")


STANDS_STILL = """async (selector) => {
  const frame = () => new Promise((drawn) => requestAnimationFrame(drawn));
  const middle = (box) => [box.x + box.width / 2, box.y + box.height / 2];
  for (let before = ["", ""]; ; ) {
    await frame(), await frame();
    const grip = document.querySelector(selector);
    const now = grip ? middle(grip.getBoundingClientRect()) : ["", ""];
    if (grip && now[0] === before[0] && now[1] === before[1] && document.elementFromPoint(...now) === grip) return now;
    before = now;
  }
}"""
"""Where the middle of something is, once it has not moved for two frames and nothing lies over it."""


def setUpModule() -> None:
    """The browser of these journeys."""
    test_estate.setUpModule()


class Authoring(Journey):
    """With the demo data."""

    def plan(self, code: str) -> dict[str, Any]:
        """The newest version of a plan, without what its people called it and in which order they came to it."""
        plan: dict[str, Any] = self.page.request.get(f"{self.app.address}/api/v1/plans/{code}").json()["plan"]
        for owner in (plan, *plan["waves"], *(m for wave in plan["waves"] for m in wave["members"])):
            for cue in owner["cues"]:
                del cue["id"]
        for wave in plan["waves"]:
            wave["members"].sort(key=lambda member: member["workload"])
        return {key: plan[key] for key in ("waves", "cues", "parts", "rto_s", "rpo_s", "source", "target")}

    def card(self, name: str) -> Any:
        """A workload on the wave board."""
        return self.page.locator(f"[data-workload={name}]")

    def wave(self, number: int) -> Any:
        """A column of the wave board."""
        return self.page.locator(f"section[aria-label^='Wave {number},']")

    def draft(self) -> Any:
        """What the draft changes."""
        return self.page.get_by_test_id("draft")


class TheSamePlanThreeTimes(Authoring):
    """However it is made, it is the same."""

    maxDiff = None

    def test_by_file(self) -> None:
        page = self.page
        text = page.request.get(f"{self.app.address}/api/v1/plans/BOOK/file").text()
        text = text.replace("code: BOOK", "code: BYFILE").replace("Booking end to end", "Booking by file")
        self.go("+ New plan")
        page.get_by_role("button", name="From a plan file …").click()
        file = {"name": "book.yaml", "mimeType": "application/yaml", "buffer": text.encode()}
        page.get_by_label("Plan file from disk").set_input_files(file)
        page.get_by_role("button", name="Take it into the draft").click()
        expect(self.sentence()).to_contain_text("Booking by file would be back in")
        self.assertEqual(self.plan("BYFILE"), self.plan("BOOK"))
        self.assertEqual(page.request.get(f"{self.app.address}/api/v1/plans/BYFILE/file").text(), text)

    def test_by_mouse(self) -> None:
        page = self.page
        self.go("+ New plan")
        page.get_by_label("Name").fill("Booking by mouse")
        page.get_by_label("Code, which").fill("MOUSE")
        page.get_by_label("RPO objective, min").fill("2")
        for group in GROUPS:
            page.get_by_role("checkbox", name=group).check()
        expect(self.sentence()).to_contain_text("would bring up 13 workloads at Hilltop in 4 waves")
        for box in page.locator(".piece").all():
            if not any(f"{one} waits for {other}" in box.inner_text() for one, other in WAITS.items()):
                box.get_by_role("checkbox").uncheck()
        page.get_by_role("button", name="Make the plan").click()
        expect(self.sentence()).to_contain_text("Booking by mouse would be back in")
        for name in OUT:
            self.card(name).click()
            page.get_by_role("button", name="Remove from the plan").click()
        for number, name in enumerate(WAVES, 1):
            page.get_by_label(f"Name of wave {number}").fill(name)
            page.get_by_label(f"Name of wave {number}").press("Tab")
        for name, number in PLACES.items():
            if (
                self.card(name)
                .locator(f"xpath=ancestor::section[starts-with(@aria-label, 'Wave {number},')]")
                .count()
                == 0
            ):
                self.card(name).drag_to(self.wave(number))
        # The delay of one is dragged on the score, those of the others are typed.
        for name, seconds in DELAYS.items():
            self.card(name).click()
            page.get_by_label("Boot delay, seconds").last.fill(str(seconds))
            page.get_by_label("Boot delay, seconds").last.press("Enter")
        self.pull("web-02", 60)
        expect(self.draft()).to_contain_text("web-02 waits")
        page.get_by_role("button", name="Undo").click()
        page.get_by_role("button", name="Rules of wave 3").click()
        self.cue(
            page.get_by_label("Wave 3").or_(page.locator("aside")).get_by_role("button", name="+ cue").first,
            "Till office confirms",
        )
        page.get_by_label("in a test").uncheck()
        page.get_by_label("What the person is to do").fill(CALL)
        expect(page.get_by_role("dialog").locator("strong")).to_have_text("wait on the line")
        page.get_by_label("Time limit, min").fill("60")
        page.get_by_label("Time limit, min").press("Tab")
        page.get_by_label("What can be done if it is not right").fill(NOT_RIGHT)
        page.get_by_role("button", name="Add the cue").click()
        page.get_by_role("button", name="Rules of wave 4").click()
        self.cue(
            page.locator("aside").get_by_role("button", name="+ cue").first,
            "The front door opens",
            "Front doors open",
        )
        choose(page.get_by_role("dialog").get_by_label("When", exact=True), "after")
        expect(page.get_by_text("Choose at least one front door.")).to_be_visible()
        page.get_by_role("dialog").get_by_text(DOOR).click()
        page.get_by_role("button", name="Add the cue").click()
        self.cue(
            page.locator("aside").get_by_role("button", name="+ cue").first,
            "The name leads to it",
            "Names lead there",
        )
        choose(page.get_by_role("dialog").get_by_label("When", exact=True), "after")
        expect(page.get_by_text("Say every name, and what it leads to.")).to_be_visible()
        page.get_by_role("dialog").get_by_label("Name", exact=True).fill(FRONT)
        choose(page.get_by_label("Leads to"), DOOR)
        page.get_by_role("button", name="Add the cue").click()
        for title, protocol, more in (
            ("The front page answers", "http", {"The answer holds": "book-web"}),
            ("Its certificate is good for two weeks", "tls", {}),
        ):
            self.cue(
                page.locator("aside").get_by_role("button", name="+ cue").first,
                title,
                "A service must answer",
            )
            choose(page.get_by_role("dialog").get_by_label("When", exact=True), "after")
            choose(page.get_by_label("Asked by"), {"http": "HTTP", "tls": "TLS"}[protocol])
            if protocol == "http":
                choose(page.get_by_label("Or from outside, through the front door"), DOOR)
            else:
                choose(page.get_by_label("Of which workload"), "web-01")
            for label, text in more.items():
                page.get_by_label(label).fill(text)
            if protocol == "tls":
                choose(page.get_by_label("When it fails"), "the run goes on")
            page.get_by_role("button", name="Add the cue").click()
        page.keyboard.press("Escape")
        self.cue(
            page.locator("aside").get_by_role("button", name="+ cue").last,
            "Everybody knows",
            "Everybody is told",
        )
        choose(page.get_by_role("dialog").get_by_label("When", exact=True), "after")
        page.get_by_label("in a test").uncheck()
        page.get_by_label("What everybody").fill(TELL)
        page.get_by_role("button", name="Add the cue").click()
        page.get_by_role("button", name="Save version 2").click()
        page.get_by_label("Why, for those").fill("As Booking has it.")
        page.get_by_role("button", name="Save it").click()
        expect(self.draft()).to_contain_text("Saved as version 2: As Booking has it.")
        self.assertEqual(self.plan("MOUSE"), self.plan("BOOK"))

    def cue(self, button: Any, title: str, kind: str = "") -> None:
        """Open the dialog of a new cue."""
        button.click()
        if kind:
            self.page.get_by_role("radio", name=kind).click()
        self.page.get_by_role("dialog").get_by_label("Title").fill(title)

    def pull(self, name: str, by: int) -> None:
        """Drag the beginning of a boot on the score to the right."""
        grip = self.page.locator(f"[data-grip={name}]")
        # It must not move under the pointer when an answer comes.
        expect(self.page.locator(".work")).to_have_attribute("aria-busy", "false")
        for _ in range(5):
            grip.scroll_into_view_if_needed()
            x, y = self.page.evaluate(STANDS_STILL, f"[data-grip='{name}']")
            self.page.mouse.move(x, y)
            self.page.mouse.down()
            if self.page.locator(".dragged").count():
                break
            self.page.mouse.up()  # the page moved under the pointer: whoever sees that nothing is held tries again
        self.page.mouse.move(x + by, y, steps=4)
        self.page.mouse.up()

    # --- by keyboard ---

    def type_into(self, label: str, text: str) -> None:
        """Reach a field with Tab and write over what it holds."""
        tab_to(self.page, label)
        self.page.keyboard.press("Control+a")
        self.page.keyboard.insert_text(text)

    def choose(self, label: str, first_letters: str) -> None:
        """Reach a list of choices with Tab and type what is chosen."""
        tab_to(self.page, label)
        self.page.keyboard.type(first_letters)
        self.page.keyboard.press("Enter")

    def test_by_keyboard_alone(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.go("Readiness")
        expect(self.sentence()).to_contain_text("If Quayside")
        keys.press("Control+k")
        keys.type("new plan")
        expect(page.get_by_role("option").first).to_contain_text("plan")
        keys.press("Enter")
        expect(self.sentence()).to_contain_text("A plan says what comes up where")
        self.type_into("Name", "Booking by keyboard")
        self.type_into("Code, which", "KEYS")
        self.type_into("RPO objective", "2")
        # A plan has the name of a group: until that is there, its link would be met first.
        expect(page.get_by_role("checkbox", name=GROUPS[0])).to_be_visible()
        for group in GROUPS:
            tab_to(self.page, group)
            keys.press("Space")
        expect(self.sentence()).to_contain_text("would bring up 13 workloads")
        tab_to(self.page, "Make the plan")
        keys.press("Enter")
        expect(self.sentence()).to_contain_text("Booking by keyboard would be back in")
        # The table: take two out, give everybody the wave, the delay and whom it waits for.
        keys.press("t")
        grid = page.get_by_role("grid")
        expect(grid).to_be_visible()
        names = [row.get_attribute("data-row") or "" for row in grid.locator("[data-row]").all()]
        tab_to(self.page, "Wave of")
        for name in names:
            if name in PLACES:
                self.cells(grid, name)
        keys.press("Escape")
        keys.press("t")
        for name in OUT:
            self.walk_to(name)
            keys.press("Delete")
        for number, name in enumerate(WAVES, 1):
            self.type_into(f"Name of wave {number}", name)
            keys.press("Tab")
        self.cue_by_keys("III: Rules of wave 3", "Till office confirms", "A person answers")
        tab_to(self.page, "in a test")
        keys.press("Space")
        self.type_into("What the person is to do", CALL)
        self.type_into("Time limit, min", "60")
        self.type_into("What can be done if it is not right", NOT_RIGHT)
        self.add_cue()
        self.cue_by_keys("IV: Rules of wave 4", "The front door opens", "Front doors open")
        self.choose("When", "after")
        tab_to(self.page, DOOR)
        keys.press("Space")
        self.add_cue()
        self.cue_by_keys("", "The name leads to it", "Names lead there")
        self.choose("When", "after")
        self.type_into("Name", FRONT)
        self.choose("Leads to", DOOR)
        self.add_cue()
        self.cue_by_keys("", "The front page answers", "A service must answer")
        self.choose("When", "after")
        self.choose("Or from outside, through the front door", DOOR)
        self.type_into("The answer holds", "book-web")
        self.add_cue()
        self.cue_by_keys("", "Its certificate is good for two weeks", "A service must answer")
        self.choose("When", "after")
        self.choose("When it fails", "the run goes on")
        self.choose("Asked by", "TLS")
        self.choose("Of which workload", "web-01")
        self.add_cue()
        keys.press("Escape")
        self.cue_by_keys("", "Everybody knows", "Everybody is told")
        self.choose("When", "after")
        tab_to(self.page, "in a test")
        keys.press("Space")
        self.type_into("What everybody", TELL)
        self.add_cue()
        page.locator("h1").click()
        keys.press("Control+s")
        expect(self.draft()).to_contain_text("Saved as version 2")
        self.assertEqual(self.plan("KEYS"), self.plan("BOOK"))

    def cells(self, grid: Any, name: str) -> None:
        """Write the cells of one row, beginning and ending in its first column."""
        keys = self.page.keyboard
        for column, text in enumerate((str(PLACES[name]), str(DELAYS.get(name, 0)), WAITS.get(name, ""))):
            here = grid.locator(f"[data-row={name}] td").nth(column)
            # Rows move as their waves change, so the way is found anew.
            for _ in range(60):
                if here.get_attribute("data-at") is not None:
                    break
                at = grid.locator("[data-at]")
                mine, its = here.bounding_box(), at.bounding_box()
                assert mine is not None and its is not None
                if abs(mine["y"] - its["y"]) > 2:
                    keys.press("ArrowDown" if mine["y"] > its["y"] else "ArrowUp")
                else:
                    keys.press("ArrowRight" if mine["x"] > its["x"] else "ArrowLeft")
            keys.press("Enter")
            keys.press("Control+a")
            keys.insert_text(text) if text else keys.press("Delete")
            keys.press("Tab")

    def walk_to(self, name: str) -> None:
        """Arrows move the selection from card to card."""
        for _ in range(40):
            if self.card(name).get_attribute("aria-pressed") == "true":
                return
            self.page.keyboard.press("ArrowDown")
        raise AssertionError(f"{name} was not reached")

    def cue_by_keys(self, place: str, title: str, kind: str) -> None:
        """Open the dialog of a new cue where the selection is."""
        keys = self.page.keyboard
        if place:
            tab_to(self.page, place)
            keys.press("Enter")
        keys.press("c")
        expect(self.page.get_by_role("dialog")).to_be_visible()
        tab_to(self.page, kind)
        keys.press("Enter")
        self.type_into("Title", title)

    def add_cue(self) -> None:
        """Confirm the dialog."""
        tab_to(self.page, "Add the cue")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("dialog")).to_be_hidden()


class OtherFaces(Authoring):
    """The table, the shelf of the estate, findings mended by one press, looking ahead."""

    def test_a_block_of_a_spreadsheet_is_pasted_and_what_does_not_fit_is_said(self) -> None:
        page = self.page
        self.go("Booking end to end")
        expect(self.sentence()).to_contain_text("would be back in")
        page.keyboard.press("t")
        page.locator("[data-row=api-01] td").nth(1).click()
        paste = """text => { const data = new DataTransfer(); data.setData("text/plain", text);
            document.activeElement.dispatchEvent(new ClipboardEvent("paste", { clipboardData: data, bubbles: true, cancelable: true })); }"""
        page.evaluate(paste, "1:30\tbroker-01\nsoon\tnobody\n")
        expect(self.draft()).to_contain_text("api-01 waits 60 s longer")
        expect(self.draft()).to_contain_text("api-01 now waits for broker-01")
        said = page.get_by_role("alert")
        expect(said).to_contain_text("2 cells were not taken over")
        expect(said).to_contain_text("api-02: Boot delay is 'soon'")
        page.keyboard.press("Control+z")
        expect(self.draft()).to_contain_text("First version")
        page.keyboard.press("t")

    def test_workloads_come_from_the_estate_and_findings_are_mended_by_one_press(self) -> None:
        page = self.page
        self.go("Booking end to end")
        expect(self.sentence()).to_contain_text("would be back in")
        page.keyboard.press("a")
        shelf = page.get_by_role("region", name="Workloads to add").or_(page.locator("section.shelf"))
        expect(shelf).to_contain_text("build-01")
        shelf.get_by_label("Filter of workloads to add").fill("tag:app=office")
        shelf.get_by_label("Filter of workloads to add").press("Tab")
        # What is dragged must not move because the answer to the filter comes just then.
        expect(shelf).not_to_contain_text("build-01")
        expect(shelf).to_contain_text("mail-01 not protected")
        shelf.locator("label", has_text="mail-01").drag_to(self.wave(2))
        expect(self.wave(2)).to_contain_text("mail-01")
        expect(self.sentence()).to_contain_text("could not run as it stands")
        page.get_by_role("button", name="Remove it: mail-01").click()
        expect(self.sentence()).to_contain_text("would be back in")
        expect(self.draft()).to_contain_text("First version")

    def test_a_rectangle_chooses_cards_and_arrows_choose_one_more(self) -> None:
        page = self.page
        self.go("Booking end to end")
        expect(self.sentence()).to_contain_text("would be back in")
        first, last = self.card("dir-01").bounding_box(), self.card("broker-01").bounding_box()
        assert first and last
        # From the gap beside the first column down to the last card of the second.
        page.mouse.move(first["x"] + first["width"] + 5, first["y"] + 2)
        page.mouse.down()
        page.mouse.move(last["x"] + 20, last["y"] + 10, steps=4)
        expect(page.locator(".lasso")).to_be_visible()
        page.mouse.up()
        expect(page.locator(".lasso")).to_have_count(0)
        chosen = page.locator(".card[aria-pressed=true]")
        expect(chosen).to_have_count(3)
        expect(self.card("db-book-01")).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("Shift+ArrowDown")
        expect(chosen).to_have_count(4)
        page.keyboard.press("3")
        expect(self.wave(3)).to_contain_text("broker-01")
        expect(self.draft()).to_contain_text("moved")
        page.get_by_role("button", name="Discard").click()
        page.keyboard.press("Escape")
        expect(chosen).to_have_count(0)

    def test_a_target_that_goes_away_and_comes_back_is_said_without_an_edit(self) -> None:
        self.go("Booking end to end")
        expect(self.sentence()).to_contain_text("would be back in")
        api = self.app.api()
        self.addCleanup(api.send, "DELETE", "/practice-lab", None)
        api.send("POST", "/practice-lab", {"site": "HIL", "preset": "site-down"})
        findings = self.page.locator(".findings")
        expect(findings).to_contain_text("HIL does not answer")
        api.send("DELETE", "/practice-lab", None)
        expect(findings).not_to_contain_text("HIL does not answer")

    def test_a_dependency_is_dragged_and_drawn(self) -> None:
        page = self.page
        self.go("Booking end to end")
        expect(self.sentence()).to_contain_text("would be back in")
        self.card("web-02").hover()
        self.card("web-02").locator(".handle").drag_to(self.card("web-01"))
        expect(self.draft()).to_contain_text("web-02 now waits for web-01")
        expect(page.locator(".threads path")).to_have_count(1)
        page.get_by_role("button", name="Discard").click()

    def test_what_helps_is_taken_and_a_rehearsal_shows_a_hanging_boot(self) -> None:
        page = self.page
        self.go("Booking end to end")
        expect(self.sentence()).to_contain_text("would be back in")
        page.keyboard.press("w")
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Take it into the draft").first.click()
        expect(dialog).to_contain_text(re.compile(r"back \d.* sooner than version 1"))
        expect(dialog.locator("[data-side=draft]").get_by_role("img", name="Score")).to_be_visible()
        page.keyboard.press("Escape")
        page.get_by_role("button", name="Discard").click()
        page.keyboard.press("r")
        said = page.get_by_test_id("rehearsed")
        expect(said).to_contain_text("nothing failed")
        choose(page.get_by_label("What goes wrong"), "The first boot hangs")
        choose(page.get_by_label("Of which workload"), "web-02")
        expect(said).to_contain_text("1 step failed on the way")
        expect(page.get_by_role("dialog")).to_contain_text("Nothing of it was left behind")
        page.keyboard.press("Escape")
        way = page.get_by_role("link", name="page", exact=True).get_attribute("href")
        book = page.request.get(f"{self.app.address}{way}")
        self.assertIn("Order of coming up at Hilltop", book.text())

    def test_parts_are_put_in_order_and_a_script_is_looked_at_again(self) -> None:
        page = self.page
        self.go("Everything (Quayside lost)")
        expect(page.get_by_label("Parts that come first")).to_contain_text(
            "Harbour core first: Directory and time"
        )
        page.keyboard.press("o")
        page.get_by_label("BOOK earlier").click()
        page.get_by_role("button", name="Done").click()
        expect(self.draft()).to_contain_text("the parts come in the order BOOK, HARB, FLEET")
        page.get_by_role("button", name="Discard").click()
        self.go("Scripts")
        page.get_by_role("button", name="replay-positions", exact=True).click()
        page.get_by_label("Text").fill("#!/bin/sh\nexit 0\n")
        page.get_by_role("button", name="Keep it").click()
        expect(self.sentence()).to_contain_text("replay-positions changed since FLEET took it in")
        self.go("Fleet and signs")
        expect(page.locator(".findings")).to_contain_text("its text is not the one looked at")
        page.get_by_role("button", name="Use the new text").click()
        expect(self.draft()).to_contain_text("the cue Replay the missed positions at ingest-01 changed")
        page.get_by_role("button", name="Discard").click()
