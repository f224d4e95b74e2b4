"""Every page for every body: what axe-core finds, and whether anything is cut off or over something else.

Each page in both themes and at the widths of a phone, a tablet, and small, usual and wide screens.
"""

from __future__ import annotations

import re
import unittest
from typing import Any

from playwright.sync_api import Page, expect

from maestoso.server.config.options import ROOT
from tests.e2e.application import Application, module_browser, visit

APP = Application()
BROWSER: dict[str, Any] = {}
AXE = (ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js").read_text()
ROUTES = ROOT / "web" / "src" / "app" / "router.ts"
WIDTHS = (390, 768, 1280, 1920, 2560)
MOST_LOOKS = 30
RULES = {"night": ["color-contrast", "link-in-text-block"], "day": None}
"""Nights are other colours and nothing else, so of them only colours are judged."""
JUDGED = """async (only) => {
  // The rules of WCAG 2.2 A and AA, and what axe-core holds for good practice.
  const found = await axe.run(document, { resultTypes: ["violations"], elementRef: false, ...(only && { runOnly: only }) });
  return found.violations.map((one) => `${one.id}: ${one.help} (${one.nodes.length}), as ${one.nodes[0].target} ${one.nodes[0].any.concat(one.nodes[0].all)[0]?.message ?? ""}`);
}"""
CROWDED = """() => {
  const found = [];
  const page = document.scrollingElement;
  const scrolls = (at) => at && at !== document.body && (/auto|scroll|hidden/.test(getComputedStyle(at).overflowX) || scrolls(at.parentElement));
  if (page.scrollWidth > innerWidth + 1) {
    const wide = [...document.querySelectorAll("main *, header *")].filter((at) => at.getBoundingClientRect().right > innerWidth + 1 && !scrolls(at.parentElement));
    found.push(`the page is ${page.scrollWidth} px wide, by ${wide.slice(0, 2).map((at) => `${at.tagName} ${at.className} "${at.textContent.trim().slice(0, 20)}"`)}`);
  }
  const seen = (box) => box.right - box.left > 1 && box.bottom - box.top > 1 && box.right > 0 && box.left < innerWidth;
  // Texts as they stand on the sheet, without what is meant to lie over it or to be unseen.
  const texts = [];
  const walk = document.createTreeWalker(document.querySelector(".shell") ?? document.body, NodeFilter.SHOW_TEXT);
  while (walk.nextNode()) {
    const node = walk.currentNode, at = node.parentElement;
    if (!node.data.trim() || at.closest("title, option, [hidden], .out-of-sight, .skip, [data-over]")) continue;
    if (!at.checkVisibility({ opacityProperty: true, visibilityProperty: true })) continue;
    const range = document.createRange();
    range.selectNodeContents(node);
    for (const rect of range.getClientRects()) {
      // As much of it as the boxes around it show. Where one of them scrolls or says "…", nothing is lost.
      const box = { left: rect.left, right: rect.right, top: rect.top, bottom: rect.bottom };
      let told = false;
      for (let up = at; up && up !== document.body; up = up.parentElement) {
        const style = getComputedStyle(up);
        if (style.overflowX === "visible" && style.overflowY === "visible") continue;
        const frame = up.getBoundingClientRect();
        told ||= style.textOverflow === "ellipsis" || /auto|scroll/.test(style.overflowX) || up.matches(".el-table__header-wrapper");
        const begins = box.left < frame.right - 1 && box.right > frame.left + 1 && box.top < frame.bottom - 1 && box.bottom > frame.top + 1;
        if (begins && !told && (box.right > frame.right + 2 || box.left < frame.left - 2)) found.push(`cut off: "${node.data.trim().slice(0, 40)}"`);
        box.left = Math.max(box.left, frame.left), box.right = Math.min(box.right, frame.right);
        box.top = Math.max(box.top, frame.top), box.bottom = Math.min(box.bottom, frame.bottom);
      }
      if (seen(box)) texts.push({ box, text: node.data.trim().slice(0, 40), at });
    }
  }
  texts.sort((a, b) => a.box.top - b.box.top);
  for (let i = 0; i < texts.length; i++) {
    for (let j = i + 1; j < texts.length && texts[j].box.top < texts[i].box.bottom - 2; j++) {
      const [a, b] = [texts[i].box, texts[j].box];
      const wide = Math.min(a.right, b.right) - Math.max(a.left, b.left);
      const high = Math.min(a.bottom, b.bottom) - Math.max(a.top, b.top);
      if (texts[i].at !== texts[j].at && wide > 3 && high > 5) found.push(`"${texts[i].text}" and "${texts[j].text}" lie over each other`);
    }
  }
  return [...new Set(found)];
}"""


def setUpModule() -> None:
    """One application and one browser for all of these."""
    unittest.addModuleCleanup(APP.close)
    APP.start()
    BROWSER["browser"] = module_browser()


class EveryPage(unittest.TestCase):
    """The demo with its history, and a run that waits for somebody."""

    maxDiff = None
    page: Page

    def setUp(self) -> None:
        self.page = visit(self, APP, BROWSER["browser"])

    def addresses(self) -> dict[str, str]:
        """An address for every route, by its name; behind a comma for a part of it that is not there at first."""
        api = APP.api()
        run = api.start_test("FLEET", 200)
        api.send("POST", f"/runs/{run}/controls", {"kind": "hold"}, **{"Idempotency-Key": "every-page"})
        tests = [one["id"] for one in api.get("/runs?plan=BOOK&kind=test")["runs"]]
        api.http.get("/export?as=csv", headers={"Prefer": "respond-async"})  # a line for the page of jobs
        return {
            "readiness": "/", "plans": "/plans", "new-plan": "/plans/new", "plan": "/plans/BOOK",
            "start": "/plans/BOOK/start?kind=planned", "plan-landings": "/plans/BOOK/landings",
            "crosswalks": "/crosswalks", "crosswalk": "/crosswalks/QUA/HIL",
            "crosswalk, doors": "/crosswalks/QUA/HIL?tab=doors", "estate": "/estate",
            "sites": "/estate/sites", "uses": "/estate/uses", "import": "/estate/import",
            "protection": "/protection", "new-group": "/protection/new", "group": "/protection/fleet",
            "edit-group": "/protection/fleet/edit", "scripts": "/scripts", "runs": "/runs",
            "run": f"/runs/{run}", "run-landings": f"/runs/{tests[0]}/landings",
            "run-evidence": f"/runs/{tests[0]}/evidence",
            "compared": f"/runs/{tests[1]}/compared/{tests[0]}", "proof": "/evidence",
            "calendar": "/evidence/calendar", "check": "/evidence/check", "audit": "/evidence/audit",
            "trend": "/evidence/plans/BOOK", "settings": "/settings", "retired": "/settings/retired", "takeover": "/takeover", "backups": "/settings/backups", "messages": "/settings/messages", "names": "/settings/names",
            "people": "/settings/people", "approvals": "/approvals", "approval": "/approvals/1", "account": "/account", "invitation": "/invitation/mara/some-secret",
            "sign-in": "/settings/sign-in", "provider-return": "/sign-in/provider?code=x&state=y",
            "jobs": "/jobs", "lab": "/lab", "help": "/help/plans", "nowhere": "/no/such/page",
        }  # fmt: skip

    def test_nothing_stands_in_anybodys_way(self) -> None:
        addresses = self.addresses()
        named = {name.split(",")[0] for name in addresses}
        self.assertEqual(named, set(re.findall(r'name: "([\w-]+)"', ROUTES.read_text())))
        found: list[str] = []
        for name, address in addresses.items():
            self.page.set_viewport_size({"width": 1280, "height": 800})
            self.page.goto(f"{APP.address}{address}")
            expect(self.page.locator("h1").first).to_be_visible()
            self.page.wait_for_load_state("networkidle") if name == "nowhere" else self.settled()
            self.page.evaluate(AXE)
            for width in WIDTHS:
                self.page.set_viewport_size({"width": width, "height": 900})
                found += [f"{name} at {width}: {said}" for said in self.crowded()]
                if width in (390, 1280):
                    for theme, only in RULES.items():
                        self.page.evaluate("(name) => (document.documentElement.dataset.theme = name)", theme)
                        said_of = self.page.evaluate(JUDGED, only)
                        found += [f"{name}, {theme}, at {width}: {said}" for said in said_of]
        self.assertEqual(found, [])

    def test_a_night_is_other_colours_and_nothing_else(self) -> None:
        themed = [path for path in (ROOT / "web" / "src").rglob("*.*") if "data-theme" in path.read_text()]
        self.assertEqual([path.name for path in themed], ["tokens.css"])
        (night,) = re.findall(r"data-theme[^{]*\{([^}]*)\}", themed[0].read_text())
        self.assertRegex(night, r"^(\s*--[\w-]+: #[0-9a-f]{6,8};|\s*color-scheme: dark;)+\s*$")

    def crowded(self) -> list[str]:
        """What is out of its place, and stays so: what hears of a new width may take it some frames later."""
        for _ in range(MOST_LOOKS):
            self.page.evaluate(
                "() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))"
            )
            said: list[str] = self.page.evaluate(CROWDED)
            if not said:
                break
        return said

    def settled(self) -> None:
        """What comes has come: nothing is said to be on its way."""
        expect(self.page.locator(".el-skeleton, [aria-busy=true]")).to_have_count(0)
        for words in ("One moment …", "Reading the log", "Assessing every plan"):
            expect(self.page.get_by_text(words)).to_have_count(0)
