"""Teaching where things land: by mouse, by keyboard, by proposals; and seeing what it makes."""

from __future__ import annotations

import re
from typing import Any

from playwright.sync_api import expect

from tests.e2e import test_estate
from tests.e2e.application import choose
from tests.e2e.test_estate import Journey


def setUpModule() -> None:
    """The browser of these journeys."""
    test_estate.setUpModule()


class Crosswalks(Journey):
    """With the demo data."""

    def source(self, name: str) -> Any:
        """A thing of the source."""
        return self.page.locator(f"[data-source='{name}']")

    def target(self, name: str) -> Any:
        """A thing of the target."""
        return self.page.locator(f"[data-target='{name}']")

    def test_quayside_is_mapped_to_northgate_from_nothing(self) -> None:
        page = self.page
        self.go("Crosswalks")
        expect(self.sentence()).to_contain_text("crosswalks say where things land")
        row = page.locator("[data-way='QUA-NOR']")
        row.get_by_role("link", name="Make it").click()
        expect(self.sentence()).to_contain_text("Nothing says yet where the 35 workloads of Quayside")
        page.keyboard.press("m")
        page.get_by_label("All proposals").check()
        page.get_by_role("button", name=re.compile("Take .* into the draft")).click()
        expect(self.sentence()).to_contain_text("of the 35 workloads of Quayside")
        # By mouse: several at once.
        self.source("qua-core").click()
        self.source("qua-data").click(modifiers=["Shift"])
        self.target("nor-app").click()
        expect(page.get_by_test_id("unmapped")).not_to_contain_text("qua-core")
        # By dragging, and back with undo.
        self.source("qua-web").drag_to(self.target("nor-app"))
        expect(self.source("qua-web")).not_to_contain_text("not mapped")
        page.keyboard.press("Control+z")
        expect(self.source("qua-web")).to_contain_text("not mapped")
        # By keyboard: go to it, select, go over, join.
        page.get_by_test_id("unmapped").get_by_role("button", name=re.compile("network qua-office")).click()
        expect(page.get_by_label("Networks at the source")).to_be_focused()
        page.keyboard.press("Enter")
        expect(page.get_by_label("Networks at the target")).to_be_focused()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        expect(self.source("qua-office")).not_to_contain_text("not mapped")
        page.get_by_role("tab", name="Address rules").click()
        page.get_by_role("button", name="10.20.0.0/24", exact=True).click()
        rule = page.locator("[data-rule='10.20.0.0/24']")
        rule.get_by_label("Target prefix, live").fill("192.168.40.0/24")
        rule.get_by_label("Target prefix, live").press("Tab")
        rule.get_by_label("Gateway, live").fill("192.168.40.1")
        rule.get_by_label("Gateway, live").press("Tab")
        rule.get_by_role("button", name="copy live").click()
        page.get_by_label("Addresses to try").fill("10.20.0.21, 10.99.0.1")
        page.get_by_role("button", name="See what they become").click()
        expect(page.get_by_role("row").filter(has_text="192.168.40.21")).to_be_visible()
        expect(page.get_by_role("row").filter(has_text="no rule")).to_be_visible()
        page.get_by_role("button", name="Make it").click()
        expect(page.get_by_test_id("draft")).to_contain_text("Saved.")
        self.go("Crosswalks")
        expect(page.locator("[data-way='QUA-NOR']")).to_contain_text("Quayside → Northgate")

    def test_an_exception_is_made_seen_at_once_and_taken_back(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/crosswalks/QUA/HIL?tab=landings&filter=web-01")
        row = page.locator("[data-landing='web-01/nic0']")
        expect(row).to_contain_text("172.18.6.11/24")
        row.click()
        drawer = page.get_by_role("dialog")
        choose(drawer.get_by_label("Adapter, live"), "has its own addresses")
        drawer.get_by_label("Addresses, live").fill("172.18.6.300/24")
        drawer.get_by_label("Addresses, live").press("Tab")
        expect(page.get_by_role("alert")).to_contain_text("172.18.6.300")
        drawer.get_by_label("Addresses, live").fill("172.18.6.12/24")
        drawer.get_by_label("Addresses, live").press("Tab")
        expect(drawer).to_contain_text("web-02 and web-01 would both have 172.18.6.12 on hil-web")
        choose(drawer.get_by_label("Pool of disk0 there"), "hil-b")
        expect(drawer).to_contain_text("disk0, 40 GiB, lands on hil-b")
        drawer.get_by_role("button", name="Back to the rules").click()
        expect(drawer).not_to_contain_text("would both have")
        drawer.get_by_role("button", name="Close", exact=True).click()
        expect(row).to_contain_text("172.18.6.11/24")
        expect(page.get_by_role("button", name="Save", exact=True)).to_be_disabled()

    def test_a_draft_outlives_leaving_and_bad_input_is_said(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/crosswalks/QUA/HIL?tab=rules")
        page.get_by_label("Prefix of a new rule").fill("10.30.0.0/33")
        page.get_by_role("button", name="Add a rule").click()
        expect(page.get_by_role("alert")).to_contain_text("10.30.0.0/33")
        self.go("Runs")
        page.goto(f"{self.app.address}/crosswalks/QUA/HIL?tab=rules")
        expect(page.get_by_label("Prefix", exact=True).last).to_have_value("10.30.0.0/33")
        page.get_by_role("button", name="Discard the changes").click()
        expect(page.locator("[data-rule='10.30.0.0/33']")).to_have_count(0)
        page.get_by_label("CSV file with table entries").set_input_files(
            {"name": "t.csv", "mimeType": "text/csv",
             "buffer": b"workload,nic,side,addresses\nweb-01,nic0,live,172.18.6.99/24\nweb-99,nic0,live,\n"}
        )  # fmt: skip
        expect(page.get_by_text("There is no workload 'web-99' at the source")).to_be_visible()
        page.get_by_role("button", name="Take 1 entry into the draft").click()
        page.get_by_role("tab", name="Before and after").click()
        expect(page.locator("[data-landing='web-01/nic0']")).to_contain_text("172.18.6.99/24")
        page.get_by_role("button", name="Discard the changes").click()

    def test_held_landings_and_the_way_back(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/crosswalks/QUA/HIL?tab=held")
        expect(page.locator("[data-held]")).to_have_count(26)
        expect(page.locator("[data-held='api-01']")).to_contain_text("✓ held")
        page.goto(f"{self.app.address}/crosswalks/HIL/NOR")
        page.get_by_role("button", name="Make the reverse crosswalk").click()
        dialog = page.get_by_role("dialog")
        expect(dialog).to_contain_text("nor-app takes several networks, and only one can be the way back")
        dialog.get_by_role("link", name="See it").click()
        expect(self.sentence()).to_contain_text("Northgate")

    def test_where_a_plan_landed_is_shown_planned_and_actual(self) -> None:
        page = self.page
        page.goto(f"{self.app.address}/plans/FLEET/landings")
        expect(page.locator("[data-landing='timetable-01/nic0']")).to_contain_text("10.20.8.11/24 hil-lab")
        self.go("Runs")
        page.get_by_role("row").filter(has_text="Fleet and signs").first.get_by_role("link").first.click()
        page.get_by_role("link", name="Planned and actual addresses").click()
        expect(self.sentence()).to_contain_text("1 of 9 adapters had not what was planned")
        crew = page.locator("[data-landing='crew-01/nic0']")
        expect(crew).to_contain_text("it has 10.20.4.44/24")


class FrontDoors(Journey):
    """With the demo data."""

    def test_one_is_written_down_mapped_and_missed_by_its_plan(self) -> None:
        page = self.page
        self.go("Estate")
        page.get_by_role("link", name="Sites and networks").click()
        here = page.locator("[data-site=QUA]")
        here.get_by_role("row").filter(has_text="Leads to").get_by_role("button", name="Add").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name", exact=True).fill("tickets-front")
        dialog.get_by_label("Address", exact=True).fill("203.0.113.300")
        dialog.get_by_label("Leads to the workload").fill("web-02")
        dialog.get_by_role("button", name="Add it").click()
        expect(dialog).to_contain_text("'203.0.113.300' of tickets-front is no address.")
        dialog.get_by_label("Address", exact=True).fill("203.0.113.12")
        dialog.get_by_role("button", name="Add it").click()
        expect(here.get_by_role("row").filter(has_text="tickets-front")).to_contain_text("from anywhere")

        page.goto(f"{self.app.address}/crosswalks/QUA/HIL")
        tab = page.get_by_role("tab", name="Front doors")
        expect(tab).to_contain_text("▲")
        tab.click()
        row = page.locator("[data-door=tickets-front]")
        choose(row.get_by_label("What becomes of tickets-front"), "another address")
        live = row.get_by_label("Address of tickets-front, live")
        expect(live).to_have_value("198.51.100.1")
        with page.expect_response("**/api/v1/crosswalks/landings"):
            row.get_by_label("Address of tickets-front, in a test").fill("198.51.100.300")
            row.get_by_label("Address of tickets-front, in a test").blur()
        wrong = page.get_by_role("alert").filter(has_text="'198.51.100.300' is no address.")
        expect(wrong).to_have_count(1)
        with page.expect_response("**/api/v1/crosswalks/QUA/HIL"):
            page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_test_id("draft")).to_contain_text("Changed, not saved.")
        expect(wrong).to_have_count(1)
        row.get_by_label("Address of tickets-front, in a test").fill("198.51.100.13")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_test_id("draft")).to_contain_text("Saved.")
        expect(tab).not_to_contain_text("▲")

        page.goto(f"{self.app.address}/plans/BOOK/landings")
        planned = (
            page.get_by_role("table", name="Front doors").get_by_role("row").filter(has_text="tickets-front")
        )
        expect(planned).to_contain_text("203.0.113.12, tcp/443")
        expect(planned).to_contain_text("198.51.100.13")
        page.get_by_role("link", name="Back to the plan").click()
        expect(page.get_by_text("Clients come to web-02 by tickets-front")).to_be_visible()
