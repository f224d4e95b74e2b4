"""kill -9 of everything in the middle of a run, a site that stalls, and the launcher's own manners.

Whether an effect happened twice is read from the site's journal, not from Maestoso's log.
"""

from __future__ import annotations

import os
import re
import signal
import socket
import subprocess
import unittest
from collections import Counter
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from maestoso.engine.clock import SystemClock
from tests import prepared
from tests.e2e.application import Api, Application, until

APP = Application(durable=True)
OWN = {
    "auth_user": {"password"},
    "estate_estatemark": {"mark"},
    "estate_site": {"agent_url", "agent_token"},
    "evidence_runregister": {"mark", "key", "token"},
    "evidence_seal": {"key", "token"},
    "names_zone": {"primary", "sealed"},
    "protection_grouprow": {"key"},
    "reign_reign": {"installation"},
    "scripts_secret": {"sealed"},
}
"""Columns in which each installation differs: secrets, what is signed with them, marks, ports."""
MOMENT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(\.\d+)?(\+00:00|Z)?")
PACE = 60


def setUpModule() -> None:
    """One application for all of these."""
    unittest.addModuleCleanup(APP.close)
    APP.start()


def all_of(app: Application) -> dict[str, Any]:
    """All that an installation begins with, but for moments and for what is its own."""
    with prepared.nobody_at_work(app.options):
        found: dict[str, Any] = {code: app.site("/inventory", code) for code in ("QUA", "HIL", "NOR")}
        records = app.records()
    for table, rows in records.items():
        found[table] = [
            {name: said(value) for name, value in row.items() if name not in OWN.get(table, ())}
            for row in rows
        ]
    return found


def said(value: Any) -> Any:
    """A value without the moment at which it was written."""
    return MOMENT.sub("then", str(value)) if isinstance(value, str | datetime) else value


class Killed(unittest.TestCase):
    """Whatever dies in the middle of a wave, the test finishes and no effect happens twice."""

    def setUp(self) -> None:
        self.api: Api = APP.api()
        self.run_number = self.api.start_test("HARB", PACE)
        self.mark = f"t{self.run_number}"
        until(lambda: self.phase("bring-up"), "the first wave")

    def status(self) -> Any:
        """How the run stands."""
        return self.api.status(self.run_number) or {}

    def phase(self, wanted: str) -> bool:
        """Whether the run is in that phase."""
        return self.status().get("phase") == wanted

    def finish(self) -> None:
        """Judge, wait for the end, and read the site's journal."""
        until(lambda: self.phase("judge"), "the verdict to be asked for")
        body = {"kind": "verdict", "verdict": "passed", "text": "after the kill"}
        self.api.send("POST", f"/runs/{self.run_number}/controls", body)
        until(lambda: self.phase("finished"), "the end")
        status = self.status()
        self.assertEqual((status["outcome"], status["remains"]), ("passed", []))
        self.assertEqual(APP.site(f"/remains?mark={self.mark}")["remains"], [])
        mine = f"{APP.secrets['instance']}-{self.run_number}:"
        keys = Counter(e["key"] for e in APP.site("/journal")["entries"] if e["key"].startswith(mine))
        self.assertGreater(len(keys), 20)
        self.assertEqual([key for key, times in keys.items() if times > 1], [])
        self.assertTrue(all(step["status"] in ("done", "skipped") for step in self.steps()))
        events = self.api.get(f"/runs/{self.run_number}/events")
        self.assertEqual([e["seq"] for e in events], list(range(1, len(events) + 1)))

    def steps(self) -> list[Any]:
        """The steps of the run."""
        return list(self.api.get(f"/runs/{self.run_number}")["steps"])

    def test_the_engine_killed_in_the_middle_of_a_wave(self) -> None:
        for _ in range(3):
            APP.kill("engine")
            before = self.status()["seq"]
            until(lambda seq=before: self.status().get("seq", 0) > seq, "the run to go on")
        self.finish()

    def test_the_database_killed_in_the_middle_of_a_wave(self) -> None:
        APP.kill("mariadb")
        until(lambda: self.status(), "the database to answer again")
        self.finish()

    def test_the_practice_site_killed_in_the_middle_of_a_wave(self) -> None:
        APP.kill("site-HIL")
        self.finish()

    def test_the_web_server_killed_in_the_middle_of_a_wave(self) -> None:
        APP.kill("web")
        until(lambda: self.status(), "the web server to answer again")
        self.finish()

    def test_a_site_that_stalls_is_said_to_be_unreachable_and_the_run_goes_on_by_itself(self) -> None:
        site = APP.pid("site-HIL")
        os.kill(site, signal.SIGSTOP)
        try:
            until(lambda: "HIL" in self.status().get("lost_sites", {}), "the site to be missed")
            station = next(s for s in self.api.get("/site-line")["stations"] if s["code"] == "HIL")
            self.assertTrue(station["lost_because"])
        finally:
            os.kill(site, signal.SIGCONT)
        until(lambda: self.status().get("lost_sites") == {}, "the site to be back")
        self.finish()


class Manners(unittest.TestCase):
    """What the launcher says and does."""

    def test_a_second_demo_says_where_the_first_is(self) -> None:
        done = APP.command("demo")
        self.assertEqual(done.returncode, 0)
        self.assertIn(f"running already: {APP.address}", done.stdout)

    def test_doctor_finds_everything_well(self) -> None:
        done = APP.command("doctor")
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertIn("process engine is running", done.stdout)

    def test_nonsense_is_answered_with_the_usage(self) -> None:
        for arguments in (("dance",), ("test", "everything")):
            done = APP.command(*arguments)
            self.assertEqual(done.returncode, 2)
        self.assertEqual(APP.command("demo", MAESTOSO_WEB_PORT="many").returncode, 2)

    def test_secrets_are_readable_by_their_owner_only_and_in_no_command_line(self) -> None:
        mode = (APP.options.var / "secrets.json").stat().st_mode & 0o777
        self.assertEqual(mode, 0o600)
        listed = subprocess.run(["ps", "-eo", "args"], capture_output=True, text=True, check=True).stdout
        for name in ("site_token", "db_password", "django_key"):
            self.assertNotIn(APP.secrets[name], listed)

    def test_what_is_kept_can_be_entered_by_its_owner_only(self) -> None:
        for name in ("log", "run", "sites", "keys", "mariadb"):
            with self.subTest(name):
                self.assertEqual((APP.options.var / name).resolve().stat().st_mode & 0o077, 0)
        for file in (*(APP.options.var / "log").glob("*.log"), *(APP.options.var / "sites").glob("*")):
            if file.name != "setup.log":
                self.assertEqual(file.stat().st_mode & 0o077, 0, file)

    def test_the_system_shows_each_process_by_its_name_and_none_of_the_secrets(self) -> None:
        for name in ("site-HIL", "engine", "keeper", "web"):
            process = Path(f"/proc/{APP.pid(name)}")
            self.assertEqual((process / "cmdline").read_bytes().strip(b"\0 ").decode(), f"maestoso: {name}")
            self.assertNotIn(APP.secrets["site_token"], (process / "environ").read_text())

    def test_requests_leave_no_connections_to_the_database_behind(self) -> None:
        api = APP.api()
        for _ in range(60):
            api.get("/runs")
        count = (
            "from django.db import connection; ask = connection.cursor(); "
            "ask.execute('SHOW PROCESSLIST'); print(len(ask.fetchall()))"
        )
        done = APP.command_of_django("shell", "-c", count)
        self.assertLess(int(done.stdout.split()[-1]), 20, done.stderr)

    def test_the_rows_of_all_runs_agree_with_their_logs(self) -> None:
        done = APP.command_of_django("check_integrity", "--journals")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("as it was written", done.stdout)


class AnotherOne(unittest.TestCase):
    """A second installation beside the first."""

    def setUp(self) -> None:
        self.other = Application(fresh=True, durable=True)
        self.addCleanup(self.other.close)

    def test_a_taken_port_is_a_sentence_that_names_it(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", self.other.options.web_port))
            taken.listen()
            done = self.other.command("demo")
        self.assertEqual(done.returncode, 1)
        self.assertIn(f"Port {self.other.options.web_port} is taken", done.stderr)
        self.assertIn("MAESTOSO_WEB_PORT", done.stderr)

    def test_start_without_demo_data_wants_a_first_administrator_and_stops_cleanly(self) -> None:
        done = self.other.command("start")
        self.assertEqual(done.returncode, 1)
        self.assertIn("MAESTOSO_ADMIN_PASSWORD", done.stderr)
        self.assertIn("Nothing was running", self.other.command("stop").stdout)


class ACopiedWorld(unittest.TestCase):
    """What other tests begin with is what a first start makes."""

    def test_a_copied_world_equals_a_fresh_one(self) -> None:
        fresh, copied = Application(fresh=True), Application()
        for app in (fresh, copied):
            self.addCleanup(app.close)
        prepared.copy_to(copied.options)
        wanted, found = all_of(fresh), all_of(copied)
        made_at = datetime.fromtimestamp((prepared.world() / "made").stat().st_mtime, UTC)
        if made_at.date() != SystemClock().now().date():
            self.skipTest(
                "It is past midnight: what days ago was copied then was not copied on the same days."
            )
        self.assertEqual(set(found), set(wanted))
        for name in wanted:
            with self.subTest(name=name):
                self.assertEqual(found[name], wanted[name])


if __name__ == "__main__":
    unittest.main()
