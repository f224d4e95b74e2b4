"""Takes the pictures in docs/screenshots anew, from the demo data: ``python -m tests.e2e.pictures``."""

from __future__ import annotations

from playwright.sync_api import Browser, Page, expect, sync_playwright

from maestoso.server.config.options import ROOT
from tests.e2e.application import APP_FLAGS, BROWSER, Application, choose

FOLDER = ROOT / "docs" / "screenshots"
PACE = 40
UP = "The test waits for your verdict"


def main() -> None:
    """Start a demo, walk through the story, and keep a picture of each main view."""
    app = Application(fresh=True)
    FOLDER.mkdir(parents=True, exist_ok=True)
    try:
        app.start()
        with sync_playwright() as driver:
            chromium = driver.chromium.launch(executable_path=BROWSER, args=APP_FLAGS)
            expect.set_options(timeout=120_000)
            take(app, chromium)
    finally:
        app.close()


def take(app: Application, chromium: Browser) -> None:
    """All pictures, in the order of the story."""
    day = signed_in(app, chromium)
    settled(day)
    keep(day, "readiness")
    day.get_by_role("navigation").get_by_role("link", name="Plans").click()
    # The board, which is left for it, has rows as well.
    expect(day.get_by_role("heading", level=1)).to_contain_text("plans")
    expect(day.get_by_role("row").nth(3)).to_be_visible()
    keep(day, "plans")
    take_estate(day)
    take_protection(day)
    take_crosswalks(day)
    take_ahead(day)
    day.get_by_role("navigation").get_by_role("link", name="Booking end to end").click()
    expect(day.get_by_role("img", name="Score")).to_be_visible()
    day.locator("[data-workload=api-01]").click()
    day.locator("[data-workload=api-02]").click(modifiers=["Control"])
    keep(day, "plan")
    day.get_by_role("link", name="Start a test").click()
    day.get_by_role("radio", name="Quayside is lost").click()
    expect(day.get_by_text("11 workloads boot at Hilltop for real")).to_be_visible()
    expect(day.get_by_text("Nothing blocks it.")).to_be_visible()
    keep(day, "start")
    day.get_by_role("radio", name="Try it out").click()
    expect(day.get_by_text("Production at Quayside keeps running")).to_be_visible()
    pace = day.get_by_role("spinbutton", name="Pace")
    pace.fill(str(PACE))
    pace.press("Enter")
    day.get_by_role("button", name="Start the test").click()
    expect(day.get_by_role("heading", level=1)).to_contain_text("6 of 11")
    keep(day, "run")
    expect(day.get_by_text(UP)).to_be_visible()
    phone = signed_in(app, chromium, width=390, height=844)
    phone.goto(day.url)
    expect(phone.get_by_text(UP)).to_be_visible()
    keep(phone, "run-phone")
    day.get_by_label("Notes").fill("Booking answered; training payments cleared.")
    day.get_by_role("button", name="Passed").click()
    expect(day.get_by_test_id("leak-check")).to_contain_text("Nothing of the test is left")
    expect(day.get_by_label("Sites")).not_to_contain_text("test")
    take_live(app, day)
    day.get_by_role("navigation").get_by_role("link", name="Runs").click()
    expect(day.get_by_role("table")).to_be_visible()
    keep(day, "runs")
    take_people(app, chromium, day)
    take_evidence(app, day)
    day.get_by_role("navigation").get_by_role("link", name="Practice lab").click()
    day.get_by_role("combobox", name="Workload").click()
    day.get_by_role("option", name="api-01").click()
    day.get_by_role("button", name="Break it").click()
    expect(day.get_by_text("A boot hangs (api-01*), once.")).to_be_visible()
    keep(day, "lab")


def take_live(app: Application, day: Page) -> None:
    """A planned failover that waits for its decision, and is rolled back."""
    api = app.api()
    options = {"kind": "planned", "pace": PACE, "sync_first": True, "decide_within_s": 3600}
    body = {"plan": "BOOK", "confirm": "BOOK", "options": options}
    run = api.send("POST", "/runs", body, **{"Idempotency-Key": "picture"})["id"]
    day.goto(f"{app.address}/runs/{run}")
    expect(day.get_by_role("button", name="Confirmed, go on")).to_be_visible()
    day.get_by_role("button", name="Confirmed, go on").click()
    expect(day.get_by_text("Commit, or roll back?")).to_be_visible()
    expect(day.get_by_label("Sites")).to_contain_text("13 running")
    keep(day, "run-planned", "24")
    day.get_by_role("button", name="Roll back").click()
    day.get_by_role("button", name="Roll it back").click()
    expect(day.get_by_role("heading", level=1)).to_contain_text("was rolled back")
    expect(day.get_by_label("Sites")).to_contain_text("7 groups")


def take_people(app: Application, chromium: Browser, day: Page) -> None:
    """Who may do what, and a second signature on a phone."""
    day.goto(f"{app.address}/settings/people")
    expect(day.get_by_role("heading", level=1)).to_contain_text("6 people can sign in")
    keep(day, "people")
    phone = signed_in(app, chromium, width=390, height=844)
    phone.goto(f"{app.address}/approvals/1")
    expect(phone.get_by_text("2 workloads at Hilltop are shut down")).to_be_visible()
    expect(phone.get_by_role("button", name="Approve")).to_be_visible()
    keep(phone, "approval")


def take_evidence(app: Application, day: Page) -> None:
    """What proves it."""
    day.goto(f"{app.address}/runs/3/evidence")
    expect(day.get_by_test_id("seal")).to_contain_text("Sealed")
    keep(day, "evidence")
    day.get_by_role("navigation").get_by_role("link", name="Evidence").click()
    expect(day.get_by_role("heading", level=1)).to_contain_text("plans are proved in time")
    keep(day, "proof")
    day.get_by_role("link", name="Drill calendar").click()
    expect(day.get_by_role("heading", level=1)).to_contain_text("drills on the calendar")
    keep(day, "calendar")


def take_estate(day: Page) -> None:
    """The pages of the estate."""
    navigation = day.get_by_role("navigation")
    navigation.get_by_role("link", name="Estate", exact=True).click()
    day.get_by_label("Filter", exact=True).fill("site:QUA (app=booking OR -protected)")
    expect(day.get_by_text("of 39 found")).to_be_visible()
    for name in ("api-01", "api-02"):
        day.get_by_label(f"Select {name}").check()
    keep(day, "estate")
    day.get_by_role("gridcell", name="pay-relay-01", exact=True).click()
    expect(day.get_by_role("dialog")).to_contain_text("Where it lands")
    day.get_by_role("button", name="Close this dialog").click()


def take_protection(day: Page) -> None:
    """The pages of protection."""
    navigation = day.get_by_role("navigation")
    navigation.get_by_role("link", name="Protection").click()
    expect(day.get_by_role("link", name="Booking data")).to_be_visible()
    keep(day, "protection")
    day.get_by_role("link", name="Booking data").click()
    day.get_by_role("button", name="the newest point before them").click()
    day.get_by_label("Label").fill("before the burst")
    day.get_by_role("button", name="Pin it").click()
    expect(day.get_by_role("button", name="Unpin")).to_be_visible()
    navigation.get_by_role("link", name="Protection").click()
    navigation.get_by_role("link", name="Readiness").click()
    settled(day)


def take_crosswalks(day: Page) -> None:
    """Where things land."""
    navigation = day.get_by_role("navigation")
    navigation.get_by_role("link", name="Crosswalks").click()
    day.get_by_role("link", name="Quayside → Hilltop").click()
    expect(day.get_by_test_id("unmapped")).to_contain_text("qua-works")
    day.locator("[data-source=qua-app]").click()
    day.mouse.move(640, 20)
    keep(day, "crosswalk")


def take_ahead(day: Page) -> None:
    """A rehearsal with a fault."""
    navigation = day.get_by_role("navigation")
    navigation.get_by_role("link", name="Booking end to end").click()
    expect(day.get_by_role("img", name="Score")).to_be_visible()
    day.keyboard.press("r")
    choose(day.get_by_label("What goes wrong"), "The first boot hangs")
    choose(day.get_by_label("Of which workload"), "web-02")
    expect(day.get_by_test_id("rehearsed")).to_contain_text("1 step failed")
    keep(day, "rehearsal")
    day.get_by_role("button", name="Close this dialog").click()


def signed_in(
    app: Application, chromium: Browser, width: int = 1280, height: int = 800, theme: str = "day"
) -> Page:
    """A page of its own."""
    page = chromium.new_context(viewport={"width": width, "height": height}).new_page()
    page.goto(app.address)
    page.evaluate("theme => localStorage.setItem('maestoso.theme', theme)", theme)
    page.reload()
    page.get_by_label("Password").fill(app.password)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("If Quayside")
    return page


def settled(page: Page) -> None:
    """The board has judged every plan."""
    expect(page.get_by_role("row")).to_have_count(6)


def keep(page: Page, name: str, running: str = "35") -> None:
    """Write the picture once fonts are there, and the site line says how many run at home."""
    expect(page.get_by_label("Sites")).to_contain_text(running)
    page.evaluate("document.fonts.ready")
    # What was clicked may have scrolled the page; a picture begins with its sentence.
    page.evaluate("window.scrollTo(0, 0)")
    page.screenshot(path=FOLDER / f"{name}.png", animations="disabled")


if __name__ == "__main__":
    main()
