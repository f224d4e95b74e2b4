"""Maestoso on two machines: one database that both reach, and what runs where."""

from __future__ import annotations

import getpass
import os
import shutil
import subprocess
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import httpx
import pymysql

from maestoso.cli.database import program
from maestoso.server.config.options import CHARACTERS
from tests.e2e.application import Api, Application, until
from tests.ports import free_port


class OwnDatabase:
    """A MariaDB that listens on loopback, as somebody who administers databases would give one."""

    def __init__(self, password: str) -> None:
        memory = Path("/dev/shm")
        self.folder = Path(tempfile.mkdtemp(dir=memory if os.access(memory, os.W_OK) else None))
        self.port, user = free_port(), f"--user={getpass.getuser()}"
        data, socket = self.folder / "data", self.folder / "s"
        made = [program("mariadb-install-db"), "--no-defaults", f"--datadir={data}", "--skip-test-db", user,
                "--auth-root-authentication-method=normal", "--skip-name-resolve", f"--tmpdir={self.folder}"]  # fmt: skip
        subprocess.run(made, check=True, capture_output=True)
        statements = self.folder / "init.sql"
        statements.write_text(
            f"CREATE DATABASE maestoso {CHARACTERS};\n"
            f"CREATE USER maestoso@'127.0.0.1' IDENTIFIED BY '{password}';\n"
            "GRANT ALL ON maestoso.* TO maestoso@'127.0.0.1';\n"
        )
        self.process = subprocess.Popen(
            [
                program("mariadbd"), "--no-defaults", f"--datadir={data}", f"--socket={socket}", user,
                f"--port={self.port}", f"--tmpdir={self.folder}", "--bind-address=127.0.0.1", "--skip-name-resolve",
                "--character-set-server=utf8mb4", "--collation-server=utf8mb4_uca1400_nopad_as_cs",
                "--transaction-isolation=READ-COMMITTED", f"--init-file={statements}",
                "--innodb-flush-log-at-trx-commit=2", "--innodb-doublewrite=0", "--max-connections=200",
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip

        def answers() -> bool:
            try:
                pymysql.connect(
                    host="127.0.0.1", port=self.port, user="maestoso", password=password,
                    database="maestoso", ssl_disabled=True,
                ).close()  # fmt: skip
            except pymysql.MySQLError:
                return False
            return True

        until(answers, "the database to answer")

    def close(self) -> None:
        """End it, and remove what it kept."""
        self.process.kill()
        self.process.wait()
        shutil.rmtree(self.folder, ignore_errors=True)


class Machines(unittest.TestCase):
    """Installations that share a database of somebody else's."""

    password = "of the database"

    def machine(self, processes: str, hosts: list[str]) -> Application:
        """One that is not started yet."""
        app = Application(fresh=True)
        self.addCleanup(app.close)
        file = app.folder / "db-password"
        file.write_text(self.password)
        app.options = replace(
            app.options, db_host=", ".join(hosts), db_password_file=str(file), processes=processes
        )
        return app

    def twin(self, first: Application, processes: str, hosts: list[str]) -> Application:
        """Another machine of the same installation, with its secrets and keys."""
        app = self.machine(processes, hosts)
        app.options.var.mkdir()
        for name in ("secrets.json", "keys"):
            source = first.options.var / name
            (shutil.copytree if source.is_dir() else shutil.copy)(source, app.options.var / name)
        return app


class TwoMachines(Machines):
    """The first serves pages and looks after sites; the second conducts, works, and serves pages too."""

    def test_a_run_is_begun_here_and_conducted_there(self) -> None:
        database = OwnDatabase(self.password)
        self.addCleanup(database.close)
        # Of the first host nobody answers.
        hosts = [f"127.0.0.1:{free_port()}", f"127.0.0.1:{database.port}"]
        first = self.machine("web, keeper", hosts)
        first.start("demo")
        here = first.api()

        stranger = self.machine("engine", hosts)
        refused = stranger.command("start")
        self.assertNotEqual(refused.returncode, 0)
        self.assertIn("those of another installation", refused.stdout + refused.stderr)
        self.assertIn("Copy secrets.json and the folder keys", refused.stdout + refused.stderr)

        second = self.twin(first, "engine, workers, web", hosts)
        # Asked for where nobody works: whoever does finds it.
        asked = here.http.get("/export?as=csv", headers={"Prefer": "respond-async"}).json()
        second.start("start")
        self.assertIn("Maestoso is at", second.said.read_text())

        # Whoever signed in at one is signed in at the other.
        there = Api.__new__(Api)
        there.http = httpx.Client(
            base_url=f"{second.address}/api/v1", cookies=here.http.cookies, trust_env=False, timeout=30
        )
        self.addCleanup(there.http.close)
        self.assertEqual(there.get("/session")["name"], "administrator")

        run = here.start_test("HARB", 400)
        killed = False

        def ended() -> Any:
            nonlocal killed
            shown = there.get(f"/runs/{run}")
            said, steps = shown["status"], shown["steps"]
            for need in said.get("needs", []):
                verdict = need["kind"] == "verdict"
                body = {"kind": "verdict" if verdict else "answer", "step": need["step"], "text": "here"}
                here.send("POST", f"/runs/{run}/controls", {**body, "verdict": "passed" if verdict else ""})
            if not killed and any(step["status"] == "done" for step in steps):
                killed = True
                second.kill("engine")
            return said.get("outcome")

        self.assertEqual(until(ended, "the test to end", 300), "passed")
        self.assertTrue(killed)

        job = until(lambda: self.done(there, asked["id"]), "a worker over there to be told")
        self.assertEqual(job["attempt"], 1)
        for api in (here, there):
            self.assertTrue(api.http.get(f"/jobs/{asked['id']}/result").text.startswith("site,name,"))

    def done(self, api: Api, job: int) -> Any:
        """A job once it is done."""
        found = api.get(f"/jobs/{job}")
        return found if found["state"] == "done" else None
