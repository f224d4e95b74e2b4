"""The primary is killed in the middle of a run: its standby takes over, and the run ends; nothing is done twice."""

from __future__ import annotations

import os
import signal
import unittest
from collections import Counter
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any

import httpx
from playwright.sync_api import Browser, Page, expect

from maestoso.cli import database, replication
from maestoso.cli.keys import make_secrets
from maestoso.real_lab import certificate
from maestoso.server.config.options import CERTIFICATE
from tests.e2e.application import PATIENCE_MS, START_S, Api, Application, choose, module_browser, until
from tests.e2e.seeds import effects
from tests.ports import free_ports

BROWSER: dict[str, Browser] = {}


def setUpModule() -> None:
    BROWSER["browser"] = module_browser()


PASSPHRASE = {"MAESTOSO_BACKUP_PASSPHRASE": "correct horse battery"}
PACE = 10
ALONE = "No standby follows this Maestoso"
DYING = ("maestoso: engine", "maestoso: keeper", "maestoso: web", "maestoso: workers", "mariadbd")
"""How they are called; practice sites stand for other machines, and live on."""


def end(pid: int, called: str) -> None:
    """End a process that may have ended long ago, and is called so."""
    with suppress(FileNotFoundError, ProcessLookupError):
        if Path(f"/proc/{pid}/cmdline").read_text() == called:
            os.kill(pid, signal.SIGKILL)


class TwoMachines(unittest.TestCase):
    """On loopback, with replication between them."""

    page: Page
    lease_s = 60
    crash_points = False

    def setUp(self) -> None:
        self.primary = Application()
        self.addCleanup(self.primary.close)
        port = free_ports(self.primary.options, sites=0).web_port
        self.primary.options = replace(
            self.primary.options, replication_port=port, witness_lease_s=self.lease_s
        )
        self.points = self.primary.folder / "crash-points"
        self.primary.start(**({"MAESTOSO_CRASH_POINTS": str(self.points)} if self.crash_points else {}))
        self.api = self.primary.api()

    def follower(self) -> Application:
        """A standby that has begun with a backup, and follows."""
        folder = self.primary.folder / "backups"
        folder.mkdir()
        made = self.primary.command("backup", "--demo", "--to", str(folder), **PASSPHRASE)
        self.assertEqual(made.returncode, 0, made.stderr)
        (file,) = folder.iterdir()
        standby = Application()
        self.addCleanup(standby.close)
        # Its sites are those of the primary.
        options = free_ports(standby.options, sites=0)
        standby.options = replace(
            options,
            site_port=self.primary.options.site_port,
            witness_lease_s=self.lease_s,
            replication_port=free_ports(options, sites=0).web_port,
        )
        port = self.primary.options.replication_port
        done = standby.command("standby", str(file), "--of", f"192.0.2.7:{port}", **PASSPHRASE)
        self.assertIn("and not for 192.0.2.7", done.stderr)
        self.assertFalse((standby.options.var / "secrets.json").exists())
        of = f"127.0.0.1:{port}"
        begun = standby.command("standby", str(file), "--of", of, **PASSPHRASE)
        self.assertEqual(begun.returncode, 0, begun.stdout + begun.stderr)
        standby.start("start", MAESTOSO_ADMIN_PASSWORD=self.primary.password)
        self.assertIn("This is the standby of the Maestoso at 127.0.0.1", standby.said.read_text())
        return standby

    def take_over(self, standby: Application) -> None:
        """On the machine itself; what started the standby starts the rest."""
        done = standby.command("takeover", "--yes")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("conducts now, and starts all that it needs", done.stdout)
        self.wait_until_it_conducts(standby)

    def wait_until_it_conducts(self, standby: Application) -> None:
        """Until its launcher says where it is."""
        until(lambda: "Maestoso is at" in standby.said.read_text(), "the standby to conduct", START_S)

    def status(self, api: Api, run: int) -> dict[str, Any]:
        """How a run stands."""
        return api.status(run) or {"seq": 0, "phase": ""}

    def choose_a_witness_and_go_without(self) -> None:
        """On the primary's pages; the standby would take over by itself otherwise."""
        page = BROWSER["browser"].new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(PATIENCE_MS)
        page.goto(self.primary.address)
        page.get_by_label("Password").fill(self.primary.password)
        page.get_by_role("button", name="Sign in", exact=True).click()
        expect(page.get_by_text("Next, most urgent first")).to_be_visible()
        expect(page.get_by_text(ALONE)).to_have_count(0)
        page.goto(f"{self.primary.address}/settings/backups")
        button = page.get_by_role("button", name="Make it the witness")
        expect(button).to_be_disabled()
        choose(page.get_by_label("Site that is the witness"), "Northgate (NOR)")
        button.click()
        expect(page.get_by_text("NOR is the witness")).to_be_visible()
        page.get_by_role("button", name="Go on without it …").click()
        page.get_by_role("button", name="Go on without it", exact=True).click()
        expect(button).to_be_visible()
        page.close()

    def look_at_its_pages(self, standby: Application) -> None:
        """People see there what the primary has, and change nothing."""
        page = self.page = BROWSER["browser"].new_page(viewport={"width": 1280, "height": 800})
        self.addCleanup(page.close)
        page.set_default_timeout(PATIENCE_MS)
        page.goto(standby.address)
        expect(page.get_by_text("This is a standby")).to_be_visible()
        page.get_by_label("Password").fill(self.primary.password)
        page.get_by_role("button", name="Sign in", exact=True).click()
        expect(page.get_by_text("It has all that the primary has.")).to_be_visible()
        self.api.send("POST", "/filters", {"name": "late", "text": "site:HIL"})
        seen = Api(standby.address, self.primary.password)
        self.addCleanup(seen.http.close)
        until(
            lambda: "late" in [one["name"] for one in seen.get("/filters")],
            "what is new at the primary to be there",
        )
        # What would have to be written down, by an address that only gives something.
        refused = seen.http.get("/plans/BOOK/run-book.pdf")
        self.assertEqual((refused.status_code, refused.json()["code"]), (409, "standby"))
        page.goto(f"{standby.address}/plans/HARB/start")
        expect(page.get_by_role("button", name="Start the test")).to_be_disabled()
        page.get_by_role("link", name="Take over …").click()
        expect(page.get_by_text("it is alive")).to_be_visible()

    def take_over_on_its_page(self, standby: Application) -> None:
        """By the words; whoever was there signs in anew then."""
        page = self.page
        expect(page.get_by_role("heading", name="The primary does not answer.")).to_be_visible()
        expect(page.get_by_text("1 run would go on here")).to_be_visible()
        button = page.get_by_role("button", name="Take over")
        page.get_by_label("Type take over").fill("take")
        expect(button).to_be_disabled()
        page.get_by_label("Type take over").fill("take over")
        button.click()
        expect(page.get_by_role("heading", name="This Maestoso takes over.")).to_be_visible()
        self.wait_until_it_conducts(standby)
        expect(page.get_by_role("heading", name="Sign in to see where everything runs.")).to_be_visible()
        expect(page.get_by_text("This is a standby")).to_have_count(0)

    def assert_trusts_nobody_else(self, standby: Application) -> None:
        """Under another certificate, whoever answers there is not spoken to."""
        other, kept = standby.folder / "other.pem", standby.options.var / CERTIFICATE
        certificate.write(other, "somebody else", "127.0.0.1")
        other.write_text(certificate.public_part(other))
        other.chmod(0o644)
        change = "CHANGE MASTER TO MASTER_SSL_CA=%s"
        with (
            database.administrator(standby.options, make_secrets(standby.options)) as line,
            line.cursor() as cursor,
        ):
            cursor.execute("STOP SLAVE")
            cursor.execute(change, [str(other)])
            cursor.execute("START SLAVE")
            until(
                lambda: "certificate" in replication.following(line).trouble, "the certificate to be refused"
            )
            self.assertFalse(replication.following(line).connected)
            cursor.execute("STOP SLAVE")
            cursor.execute(change, [str(kept)])
            cursor.execute("START SLAVE")
            until(lambda: replication.following(line).connected, "it to follow again")

    def burn(self) -> None:
        """All of the primary dies."""
        assert self.primary.process is not None
        supervisor = int((self.primary.options.var / "run" / "supervisord.pid").read_text())
        self.primary.process.kill()
        self.primary.process.wait()
        # It starts nothing anew that has died already.
        os.kill(supervisor, signal.SIGSTOP)
        for child in Path(f"/proc/{supervisor}/task/{supervisor}/children").read_text().split():
            called = Path(f"/proc/{child}/cmdline").read_text()
            if any(name in called for name in DYING):
                os.kill(int(child), signal.SIGKILL)
            else:
                # Nobody ends it any more, unless the primary is started again.
                self.addCleanup(end, int(child), called)
        os.kill(supervisor, signal.SIGKILL)

    def test_the_run_ends_there_and_the_old_primary_can_do_nothing_any_more(self) -> None:
        self.assertIn(ALONE, self.titles())
        standby = self.follower()
        self.assert_trusts_nobody_else(standby)
        until(
            lambda: standby.command("standby").stdout.count("has all that the primary has"),
            "it to catch up",
            120,
        )
        until(
            lambda: [line["has_all"] for line in self.api.get("/standbys")["lines"]] == [True],
            "the primary to have sent all of it",
        )
        for command in (("backup", "--to", str(standby.folder)), ("upgrade",), ("admin", "ada")):
            self.assertIn("is a standby, and only follows", standby.command(*command, **PASSPHRASE).stderr)
        self.choose_a_witness_and_go_without()
        self.look_at_its_pages(standby)
        run = self.api.start_test("HARB", PACE)
        until(lambda: self.status(self.api, run)["phase"] in ("bring-up", "judge"), "the first wave")
        known = self.status(self.api, run)["seq"]

        def got_on() -> bool:
            status = self.status(self.api, run)
            return bool(status["seq"] > known + 5 or status["phase"] == "judge")

        until(got_on, "the run to go on")
        self.burn()

        said = standby.command("takeover", typed="no\n")
        self.assertEqual(said.returncode, 1)
        self.assertIn("does not answer", said.stdout)
        self.assertIn("Runs under way: 1", said.stdout)
        self.assertIn("Nothing was changed", said.stdout)
        self.take_over_on_its_page(standby)
        again = standby.command("takeover", "--yes")
        self.assertIn("is no standby", again.stderr)
        api = standby.api()
        until(lambda: self.status(api, run)["phase"] == "judge", "the verdict to be asked for")
        body = {"kind": "verdict", "verdict": "passed", "text": "at the other site"}
        api.send("POST", f"/runs/{run}/controls", body)
        until(lambda: self.status(api, run)["phase"] == "finished", "the end")
        status = self.status(api, run)
        self.assertEqual((status["outcome"], status["remains"]), ("passed", []))
        found = effects(standby, run)
        self.assertGreater(len(found), 20)
        self.assertEqual([key for key, times in Counter(found).items() if times > 1], [])
        checked = standby.command_of_django("check_integrity")
        self.assertEqual(checked.returncode, 0, checked.stdout + checked.stderr)

        self.primary.start()
        old = Api(self.primary.address, self.primary.password)
        self.addCleanup(old.http.close)
        first = until(lambda: self.learnt(old, run), "the old one to learn that it conducts nothing any more")
        self.assertEqual(first, "This Maestoso conducts nothing any more")
        with self.assertRaises(httpx.HTTPStatusError) as refused:
            old.start_test("REPT", 20)
        self.assertEqual(refused.exception.response.json()["code"], "reign-past")
        self.assertEqual(effects(standby, run), found)
        # The new one goes on as ever.
        other = api.start_test("REPT", 20)
        until(lambda: self.status(api, other)["phase"] == "judge", "another run to get to its verdict")
        self.go_back(standby)

    def go_back(self, new: Application) -> None:
        """The old primary becomes the standby of the new one, in its place."""
        old, folder = self.primary, new.folder / "backups"
        folder.mkdir()
        made = new.command("backup", "--to", str(folder), **PASSPHRASE)
        self.assertEqual(made.returncode, 0, made.stderr)
        (file,) = folder.iterdir()
        words = ("standby", str(file), "--of", f"127.0.0.1:{new.options.replication_port}", "--move-aside")
        self.assertIn("runs. Stop it first", old.command(*words, **PASSPHRASE).stderr)
        old.close_down()
        known = (old.options.var / "secrets.json").read_bytes()
        wrong = old.command(*words, MAESTOSO_BACKUP_PASSPHRASE="something else")
        self.assertEqual(
            (wrong.returncode, (old.options.var / "secrets.json").read_bytes()), (1, known), wrong.stderr
        )
        done = old.command(*words, **PASSPHRASE)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        (aside,) = old.options.var.parent.glob(f"{old.options.var.name}.before-*")
        self.assertIn(f"is kept in {aside}", done.stdout)
        old.start("start", MAESTOSO_ADMIN_PASSWORD=new.password)
        until(lambda: "has all that the primary has" in old.command("standby").stdout, "it to follow", 120)

    def learnt(self, old: Api, run: int) -> str:
        """What its board says first. It learns that with the first thing that it asks a site for: where its run
        waits for a person, that is what somebody answers."""
        if self.status(old, run)["phase"] == "judge":
            with suppress(httpx.HTTPStatusError):
                old.send("POST", f"/runs/{run}/controls", {"kind": "verdict", "verdict": "failed"})
        return self.first(old)

    def first(self, api: Api) -> str:
        """What the board of the old one says first, once that is about its end."""
        titles = [one["title"] for one in api.get("/readiness")["actions"]]
        return titles[0] if titles and titles[0].startswith("This Maestoso") else ""

    def titles(self) -> list[str]:
        """What is to be done, by the board of the primary."""
        return [one["title"] for one in self.api.get("/readiness")["actions"]]


class NoStandby(unittest.TestCase):
    """What cannot begin one."""

    def test_a_backup_of_a_primary_that_nobody_can_follow_and_a_bad_address(self) -> None:
        app = Application()
        self.addCleanup(app.close)
        app.start()
        folder = Path(app.folder / "backups")
        folder.mkdir()
        self.assertEqual(app.command("backup", "--demo", "--to", str(folder), **PASSPHRASE).returncode, 0)
        (file,) = folder.iterdir()
        other = Application(fresh=True)
        self.addCleanup(other.close)
        for of, said in (
            ("127.0.0.1:3306", "it was made while the primary had no replication_port"), ("nowhere", "is no address of a database"),
            ("", "Say whose standby it is"),
        ):  # fmt: skip
            done = other.command("standby", str(file), "--of", of, **PASSPHRASE)
            self.assertEqual(done.returncode, 1, done.stdout)
            self.assertIn(said, done.stderr)
            self.assertFalse((other.options.var / "secrets.json").exists())


if __name__ == "__main__":
    unittest.main()
