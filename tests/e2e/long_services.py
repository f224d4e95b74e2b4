"""Maestoso as services: what the units start is an installation that works, without a supervisor of ours."""

from __future__ import annotations

import os
import re
import shlex
import signal
import subprocess
import unittest
from pathlib import Path

import httpx

from maestoso.server.config.options import ROOT, SETTINGS
from tests.e2e.application import Api, Application, until

PASSWORD = "correct-horse-battery"


class Installed(unittest.TestCase):
    """Each unit is started as systemd would start it, by an account of an empty environment."""

    def test_what_the_units_start_can_be_signed_in_to_and_ends_when_it_is_told(self) -> None:
        app = Application(fresh=True)
        self.addCleanup(app.close)
        var, port, practice = app.options.var, app.options.web_port, app.options.practice_port
        settings = app.folder / "maestoso.toml"
        settings.write_text(
            f'var = "{var}"\nweb_port = {port}\npractice_port = {practice}\ndb_durable = false\n'
        )
        bare = {"PATH": os.environ["PATH"], SETTINGS: str(settings)}

        def command(*arguments: str, typed: str = "") -> subprocess.CompletedProcess[str]:
            return subprocess.run(
                [str(ROOT / "maestoso"), *arguments],
                env=bare,
                input=typed,
                capture_output=True,
                text=True,
                check=False,
            )

        below = app.folder / "files"
        done = command("install", "--to", str(below))
        self.assertEqual(done.returncode, 0, done.stderr)
        started = {}
        for name in ("mariadb", "tables", "practice", "engine", "keeper", "workers", "web"):
            unit = (below / f"etc/systemd/system/maestoso-{name}.service").read_text()
            self.assertIn(f"Environment={SETTINGS}={settings}\n", unit)
            line = re.search(r"^ExecStart=(.*)$", unit, re.M)
            assert line is not None
            with (app.folder / f"{name}.out").open("w") as out:
                process = subprocess.Popen(shlex.split(line[1]), env=bare, cwd=ROOT, stdout=out, stderr=out)
            self.addCleanup(process.wait)
            self.addCleanup(process.kill)
            if name == "tables":
                self.assertEqual(process.wait(300), 0, (app.folder / "tables.out").read_text())
            else:
                started[name] = process

        address = f"http://127.0.0.1:{port}"

        def ready() -> bool:
            try:
                return httpx.get(f"{address}/readyz", trust_env=False, timeout=10).status_code == 200
            except httpx.HTTPError:
                return False

        until(ready, f"it to be ready; {self.said(app.folder)}")
        made = command("admin", "ada", typed=f"{PASSWORD}\n")
        self.assertEqual(made.returncode, 0, made.stderr)
        api = Api(address, PASSWORD, name="ada")
        self.addCleanup(api.http.close)
        self.assertEqual(api.get("/plans")["plans"], [])
        self.assertEqual([one["title"] for one in api.get("/readiness")["actions"]], [])
        self.assertIn("runs as services", command("doctor").stdout)
        refused = command("start")
        self.assertIn("runs as services", refused.stdout + refused.stderr)
        for process in reversed(started.values()):
            process.send_signal(signal.SIGTERM)
            self.assertIsNotNone(process.wait(60))

    def said(self, folder: Path) -> str:
        """What the processes wrote."""
        return " ".join(f"{file.name}: {file.read_text()[-300:]}" for file in folder.glob("*.out"))


if __name__ == "__main__":
    unittest.main()
