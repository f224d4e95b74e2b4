"""From nothing to protected, by files and the browser alone; and the bad days of copying."""

from __future__ import annotations

import json
import re
import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any, ClassVar

import httpx
from playwright.sync_api import Page, expect

from tests.agent_kit.papers import Papers
from tests.agent_kit.sites import HAS, environment
from tests.e2e.application import JOB_MS, Application, choose, module_browser, until, visit
from tests.ports import free_port

MANY = 4000
"""Workloads of a large file; ten thousand are measured in bench."""
PLAYWRIGHT: dict[str, Any] = {}


def setUpModule() -> None:
    """One browser for all of these."""
    PLAYWRIGHT["browser"] = module_browser()


def estate() -> dict[str, Any]:
    """Two practice sites, a line between them, and an application of three."""

    def site(code: str, name: str, net: int) -> dict[str, Any]:
        low = code.lower()
        return {
            "code": code, "name": name,
            "host_pools": [{"name": f"{low}-hosts", "hosts": 2, "cores": 64, "memory_mib": 262144}],
            "storage_pools": [{"name": f"{low}-disk", "capacity_gib": 9000}],
            "networks": [{"name": f"{low}-net", "vlan": 10, "prefixes": [f"10.{net}.0.0/24"]}],
        }  # fmt: skip

    def workload(name: str, host: int, uses: list[str]) -> dict[str, Any]:
        nic = {"name": "nic0", "network": "eas-net", "mac": f"02:00:00:00:01:{host:02x}"}
        return {
            "site": "EAS", "name": name, "cores": 2, "memory_mib": 4096, "tags": {"app": "shop"}, "uses": uses,
            "disks": [{"name": "disk0", "size_gib": 8, "storage_pool": "eas-disk"}],
            "nics": [{**nic, "addresses": [f"10.1.0.{host}/24"]}],
            "offers": [{"name": f"{name}-service", "protocol": "tcp", "port": 80}],
        }  # fmt: skip

    return {
        "maestoso": "estate/1",
        "sites": [site("EAS", "Eastside", 1), site("WES", "Westside", 2)],
        "links": [{"one": "EAS", "other": "WES", "bandwidth_bps": 4_000_000_000}],
        "workloads": [
            workload("db", 11, []),
            workload("app", 12, ["db-service"]),
            workload("web", 13, ["app-service"]),
        ],
    }


class Journey(unittest.TestCase):
    """With an application and a page of its own; whatever the browser complains of fails the test."""

    command = "demo"
    settings: ClassVar[dict[str, str]] = {}

    @classmethod
    def setUpClass(cls) -> None:
        cls.app = Application()
        cls.addClassCleanup(cls.app.close)
        cls.app.start(cls.command, **cls.settings)

    def setUp(self) -> None:
        self.page: Page = visit(self, self.app, PLAYWRIGHT["browser"])

    def go(self, *names: str) -> None:
        """Follow links by their names."""
        for name in names:
            self.page.get_by_role("navigation").get_by_role("link", name=name, exact=True).click()

    def sentence(self) -> Any:
        """What the page says first."""
        return self.page.get_by_role("heading", level=1)

    def bring(self, name: str, raw: bytes) -> None:
        """Choose a file."""
        self.page.get_by_label("File", exact=True).set_input_files(
            {"name": name, "mimeType": "text/plain", "buffer": raw}
        )


class FromNothing(Journey):
    """An empty start, files, a group, a point."""

    command = "start"
    settings: ClassVar[dict[str, str]] = {"MAESTOSO_ADMIN_PASSWORD": "correct-horse-battery"}

    def test_an_estate_is_brought_in_protected_and_seen_healthy(self) -> None:
        page = self.page
        expect(self.sentence()).to_contain_text("There is no plan yet")
        self.go("Estate")
        expect(self.sentence()).to_contain_text("Nothing is known yet")
        self.go("Import")
        self.bring("broken.json", b'{"workloads": [\n}')
        expect(self.sentence()).to_contain_text("was not imported: The file is not JSON: line 2")
        self.bring("estate.json", json.dumps(estate()).encode())
        expect(self.sentence()).to_contain_text("2 sites (EAS and WES), 1 link and 3 new workloads")
        page.get_by_role("button", name="Import it").click()
        expect(self.sentence()).to_contain_text("It is all written down")
        page.get_by_role("link", name="See the workloads").click()
        expect(self.sentence()).to_contain_text("3 workloads are known; 3 are unprotected")
        self.go("Sites and networks")
        expect(self.sentence()).to_contain_text("All answer, and say what the records say")
        self.go("Workloads")
        page.get_by_role("rowgroup", name="Rows").focus()
        page.keyboard.press("Control+a")
        choose(page.get_by_label("Add to group"), "a new group")
        page.get_by_role("button", name="Add", exact=True).click()
        page.get_by_label("Name").fill("Shop")
        page.get_by_label("A point every, s").fill("5")
        expect(page.get_by_text("The link carries it")).to_be_visible()
        page.get_by_role("button", name="Protect them").click()
        expect(self.sentence()).to_contain_text(re.compile("Shop is .*(seeding|waiting|healthy)"))
        expect(self.sentence()).to_contain_text("healthy")
        self.go("Protection")
        expect(self.sentence()).to_contain_text(
            "3 of 3 workloads are protected, in one group. It is within its objective"
        )

    def test_then_an_agent_is_enrolled_by_its_one_time_code_and_given_another_token(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        place, port = Path(folder.name), free_port()
        (place / "site.json").write_text(json.dumps(HAS))
        agent = subprocess.Popen(
            [sys.executable, "-m", "maestoso.agent_kit", "folders", folder.name, "--site", "NEW", "--port", str(port),
             "--token-file", str(place / "token"), "--certificate", str(Papers(place).sign("agent"))],
            env=environment(), stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        self.addCleanup(agent.wait)
        self.addCleanup(agent.kill)
        assert agent.stdout is not None
        self.addCleanup(agent.stdout.close)
        code = agent.stdout.readline().rpartition(" ")[2].strip()

        def listens() -> bool:
            with socket.socket() as probe:
                return probe.connect_ex(("127.0.0.1", port)) == 0

        until(listens, "the agent to listen")
        page = self.page
        self.go("Estate", "Sites and networks")
        page.get_by_role("button", name="Register a site").click()
        page.get_by_label("Code", exact=True).fill("NEW")
        page.get_by_label("Name").fill("Newhaven Annex")
        page.get_by_label("Address of the agent").fill(f"https://127.0.0.1:{port}")
        page.get_by_label("It printed a one-time code").check()
        page.get_by_label("One-time code", exact=True).fill("AAAA-BBBB")
        page.get_by_role("button", name="Register it").click()
        expect(page.get_by_role("alert")).to_contain_text("no one-time code")
        page.get_by_label("One-time code", exact=True).fill(code)
        page.get_by_role("button", name="Register it").click()
        site = page.get_by_role("heading", name="Newhaven Annex")
        expect(site).to_contain_text(f"agent at https://127.0.0.1:{port}")
        first = (place / "token").read_text()
        page.get_by_role("button", name="Its agent").last.click()
        page.get_by_role("button", name="Replace its token").click()
        expect(page.get_by_role("status").filter(has_text="gave a new token")).to_be_visible()
        self.assertNotIn(first.strip(), (place / "token").read_text())
        page.get_by_role("button", name="Cancel").click()
        page.get_by_role("button", name="Retire the site").last.click()
        expect(page.get_by_text(f"agent at https://127.0.0.1:{port}")).to_be_hidden()


class TheDemo(Journey):
    """What practitioners look for in the made-up ferry line."""

    def practise(self, site: int, path: str, body: Any = None) -> None:
        """Let a practice site misbehave, or put all right."""
        url = f"http://127.0.0.1:{self.app.options.site_port + site}/v1/practice/{path}"
        token = {"Authorization": f"Bearer {self.app.secrets['site_token']}"}
        method = "DELETE" if body is None else "POST"
        httpx.request(method, url, json=body, headers=token, trust_env=False).raise_for_status()

    def test_a_filter_is_mended_by_its_suggestion_and_finds(self) -> None:
        self.go("Estate")
        filter_field = self.page.get_by_label("Filter", exact=True)
        filter_field.fill("tier=web sit:QUA")
        expect(self.page.get_by_role("alert")).to_contain_text("Did you mean site:?")
        self.page.get_by_role("button", name="tier=web site:QUA").click()
        expect(self.page.get_by_role("row").filter(has_text="tiles-01")).to_be_visible()
        expect(self.page.get_by_text("3 of 39 found")).to_be_visible()
        self.page.get_by_role("rowgroup", name="Rows").focus()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("dialog")).to_contain_text("Where it lands")

    def test_what_is_needed_and_unprotected_is_protected_from_the_board(self) -> None:
        page = self.page
        item = page.get_by_role("listitem").filter(has_text="mail-01 is needed and not protected")
        item.get_by_role("link", name="Protect it").click()
        expect(page.get_by_role("button", name="Add to group")).to_be_visible()
        page.get_by_label("Name").fill("Mail")
        page.get_by_label("encrypt the copies").check()
        page.get_by_label("Key of the copies").fill("made-up key of the mail")
        choose(page.get_by_label("First copy"), "from a seed")
        page.get_by_label("A point every, s").fill("5")
        page.get_by_role("button", name="Protect them").click()
        expect(self.sentence()).to_contain_text("Mail is ✓ healthy")
        expect(page.get_by_text("encrypted with the key")).to_be_visible()
        self.go("Readiness")
        expect(page.get_by_text("10 more workloads are in no group")).to_be_visible()
        expect(item).to_have_count(0)

    def test_the_clean_point_is_picked_and_pinned(self) -> None:
        page = self.page
        self.go("Protection")
        page.get_by_role("link", name="Booking data").click()
        expect(page.get_by_text("Unusual changes.")).to_be_visible()
        page.get_by_role("button", name="the newest point before them").click()
        page.get_by_label("Label").fill("before the burst")
        page.get_by_role("button", name="Pin it").click()
        expect(page.get_by_role("status").filter(has_text="Pinned")).to_be_visible()
        slider = page.get_by_role("slider")
        slider.focus()
        page.keyboard.press("End")
        page.keyboard.press("ArrowLeft")
        expect(page.get_by_test_id("point")).to_contain_text("crash-consistent")
        page.get_by_role("button", name="before the burst").click()
        expect(page.get_by_role("button", name="Unpin")).to_be_visible()

    def test_a_cut_link_and_a_burst_are_seen_where_one_looks(self) -> None:
        page = self.page
        self.addCleanup(self.practise, 1, "faults")
        self.practise(1, "troubles", {"effect": "cut", "subject": "QUA"})
        expect(page.get_by_label("Sites")).to_contain_text("cut: nothing is copied")
        expect(page.get_by_text("Nothing is copied over a link")).to_have_count(1)
        self.go("Protection")
        expect(page.get_by_text("7 groups are not copied because of it")).to_be_visible()
        expect(page.locator("[data-group=fleet]")).to_contain_text("stalled")
        self.practise(1, "faults")
        expect(page.locator("[data-group=harbour]")).to_contain_text("healthy")
        before = self.changes_of("signs")
        self.practise(1, "troubles", {"effect": "burst", "subject": "signs", "factor": 60.0})
        until(lambda: self.changes_of("signs") > 20 * before, "the burst to be seen")

    def changes_of(self, group: str) -> float:
        """Bits a second, as the page says them."""
        text = self.page.locator(f"[data-group={group}]").inner_text()
        match = re.search(r"([\d.]+) ([kMG])bit/s", text)
        assert match is not None, text
        return float(match[1]) * {"k": 1e3, "M": 1e6, "G": 1e9}[match[2]]

    def test_many_workloads_come_in_with_progress_or_not_at_all(self) -> None:
        page = self.page
        rows = [f"NOR,bulk-{n:05d},2,2048,disk0:10@nor-disk,app=bulk" for n in range(MANY)]
        raw = "\n".join(["site,name,cores,memory_mib,disks,tags", *rows]).encode()
        self.go("Estate", "Import")
        self.bring("bulk.csv", raw)
        expect(self.sentence()).to_contain_text(
            f"{MANY} new workloads. Nothing is written yet", timeout=JOB_MS
        )
        page.get_by_role("button", name="Import it").click()
        # Heard before a worker that is in the middle of it can go on; such a one has to, to see it.
        with (
            self.app.standing_still("workers"),
            page.expect_response(lambda reply: reply.request.method == "DELETE"),
        ):
            page.get_by_role("button", name="Cancel").click()
        expect(page.get_by_role("button", name="Cancel")).to_have_count(0)
        expect(self.sentence()).to_contain_text("cancelled; nothing was written")
        self.bring("bulk.csv", raw)
        expect(self.sentence()).to_contain_text(
            f"{MANY} new workloads. Nothing is written yet", timeout=JOB_MS
        )
        page.get_by_role("button", name="Import it").click()
        expect(self.sentence()).to_contain_text("It is all written down", timeout=JOB_MS)
        self.go("Workloads")
        page.get_by_label("Filter", exact=True).fill("name:bulk-*")
        expect(page.get_by_text(f"{MANY} of {MANY + 39} found")).to_be_visible()
        page.get_by_role("rowgroup", name="Rows").focus()
        page.keyboard.press("End")
        expect(page.get_by_role("row").filter(has_text=f"bulk-{MANY - 1:05d}")).to_be_visible()


if __name__ == "__main__":
    unittest.main()
