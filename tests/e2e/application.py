"""The whole application, started by its own launcher, for tests that use it as a person would."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import ssl
import subprocess
import sys
import tempfile
import threading
import time
import unittest
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import fields, replace
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx
import pymysql
from playwright.sync_api import Browser, ConsoleMessage, Locator, Page, expect, sync_playwright
from pymysql.cursors import DictCursor

from maestoso.cli.processes import Processes
from maestoso.server.config import exposure
from maestoso.server.config.options import ROOT, Options, database_socket, read_secrets, variable
from tests import prepared
from tests.ports import free_ports

BROWSER = "/usr/bin/chromium-headless-shell"
"""Without windows from the ground up: a page takes half of the time of a processor that it takes in chromium itself."""
APP_FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-software-rasterizer",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
START_S = 300.0
PATIENCE_S = 300.0
PATIENCE_MS = 120_000
JOB_MS = 300_000
"""How long what a worker makes may take on a slow machine: the worker may have to be started first."""


def until(ready: Callable[[], Any], what: str, seconds: float = PATIENCE_S) -> Any:
    """Wait for a condition; returns what it returned. Looks less and less often: looking takes time of its own."""
    end, pause = time.monotonic() + seconds, 0.03
    while True:
        found = ready()
        if found:
            return found
        if time.monotonic() > end:
            raise AssertionError(f"waited {seconds:.0f} s in vain for {what}")
        threading.Event().wait(pause)
        pause = min(pause * 1.5, 0.5)


def module_browser() -> Browser:
    """A browser for one module of tests, for its ``setUpModule``: it ends with the module."""
    driver = sync_playwright().start()
    unittest.addModuleCleanup(driver.stop)
    chromium = driver.chromium.launch(executable_path=BROWSER, args=APP_FLAGS)
    unittest.addModuleCleanup(chromium.close)
    expect.set_options(timeout=PATIENCE_MS)
    return chromium


def _hears_interrupts() -> None:
    """What a shell starts in the background does not hear Ctrl+C, nor do its children; these must."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


class Application:
    """``./maestoso demo`` in a directory and on ports of its own.

    It begins as a copy of the prepared world, or (``fresh``) with nothing. ``durable``: its database keeps what a
    power cut must not lose, which takes longer.
    """

    def __init__(self, *, fresh: bool = False, durable: bool = False) -> None:
        self.fresh = fresh
        memory = Path("/dev/shm")
        parent = memory if os.access(memory, os.W_OK) else None
        self.folder = Path(tempfile.mkdtemp(prefix="maestoso-e2e-", dir=parent))
        self.folder.chmod(0o711)  # the database has a user of its own where root runs the tests
        own = replace(Options(), var=self.folder / "var", db_durable=durable)
        # A worker starts one after the other at the same ports; whoever runs a test alone meets no worker.
        worker = os.environ.get(prepared.WORKER)
        self.options = free_ports(own, sites=3, first=int(worker) if worker else None)
        self.process: subprocess.Popen[str] | None = None
        self.given_password = ""
        self.signed_in: Any = None
        self._api: Api | None = None
        self.said = self.folder / "said.txt"

    @property
    def address(self) -> str:
        """Where people find it."""
        return exposure.origin(self.options) or exposure.own_address(self.options)

    def environment(self, **more: str) -> dict[str, str]:
        """The options as a user would set them."""
        given = {variable(f.name): str(getattr(self.options, f.name)) for f in fields(Options)}
        return {**os.environ, **given, **more}

    def command(
        self, *arguments: str, cwd: Path | None = None, typed: str = "", **more: str
    ) -> subprocess.CompletedProcess[str]:
        """Run the launcher to its end; ``typed`` is what it reads."""
        return subprocess.run(
            [str(ROOT / "maestoso"), *arguments],
            cwd=cwd or self.folder,
            env=self.environment(**more),
            input=typed,
            capture_output=True,
            text=True,
            timeout=START_S,
            check=False,
        )

    def start(self, command: str = "demo", **more: str) -> None:
        """Start the demo (or ``start`` it empty) and wait until it says where it is."""
        self.given_password = more.get("MAESTOSO_ADMIN_PASSWORD", "")
        if command == "demo" and not self.fresh and not self.options.var.exists():
            prepared.copy_to(self.options, again=prepared.WORKER in os.environ)
        with self.said.open("w") as out:
            self.process = subprocess.Popen(
                [str(ROOT / "maestoso"), command],
                cwd=self.folder,
                env=self.environment(**more),
                stdout=out,
                stderr=out,
                text=True,
                preexec_fn=_hears_interrupts,
            )

        def up() -> bool:
            assert self.process is not None
            if self.process.poll() is not None:
                raise AssertionError(f"it ended: {self.said.read_text()}")
            return "Ctrl+C stops everything" in self.said.read_text()

        until(up, f"./maestoso {command} to start", START_S)

    def command_of_django(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        """Run a management command on this installation to its end."""
        env = self.environment(DJANGO_SETTINGS_MODULE="maestoso.server.config.settings")
        command = [sys.executable, "-m", "django", *arguments]
        return subprocess.run(command, env=env, capture_output=True, text=True, check=False, timeout=START_S)

    def interrupt(self) -> int:
        """Ctrl+C; returns the exit status."""
        assert self.process is not None
        self.process.send_signal(signal.SIGINT)
        return self.process.wait(60)

    def close_down(self) -> None:
        """Stop it; its directory stays."""
        if self._api is not None:
            self._api.http.close()
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(60)

    def close(self) -> None:
        """Stop it and remove its directory."""
        self.close_down()
        shutil.rmtree(self.folder, ignore_errors=True)

    @property
    def secrets(self) -> dict[str, str]:
        """The secrets of this installation."""
        return json.loads((self.options.var / "secrets.json").read_text())

    @property
    def password(self) -> str:
        """The password that the launcher printed, or was given."""
        if self.given_password:
            return self.given_password
        match = re.search(r"with the password (\S+)", self.said.read_text())
        assert match is not None
        return match.group(1)

    def records(self, *tables: str) -> dict[str, list[dict[str, Any]]]:
        """All rows of these tables as they stand in the database; of all but Django's own where none is named."""
        line = pymysql.connect(
            unix_socket=str(database_socket(self.options.var)), user=self.options.db_user,
            password=self.secrets["db_password"], database=self.options.db_name, ssl_disabled=True,
        )  # fmt: skip
        found = {}
        with line, line.cursor(DictCursor) as cursor:
            if not tables:
                cursor.execute("SHOW TABLES")
                every = [str(value) for row in cursor.fetchall() for value in row.values()]
                tables = tuple(name for name in every if not name.startswith("django_"))
            for name in tables:
                cursor.execute(f"SELECT * FROM `{name}` ORDER BY 1")
                found[name] = list(cursor.fetchall())
        return found

    def pid(self, name: str) -> int:
        """The process of this name, as the supervisor knows it."""
        processes = Processes(self.options, read_secrets(self.options), practice=True)
        found = next((one["pid"] for one in processes.states() if one["name"] == name), 0)
        if not found:
            raise AssertionError(f"no process {name!r}")
        return int(found)

    @contextmanager
    def standing_still(self, name: str) -> Iterator[None]:
        """With a process and what it started stopped, so that a slow browser is not too late for what they do."""
        group = self.pid(name)
        os.killpg(group, signal.SIGSTOP)
        try:
            yield
        finally:
            os.killpg(group, signal.SIGCONT)

    def kill(self, name: str) -> None:
        """kill -9, then wait until the supervisor has put another in its place."""
        before = self.pid(name)
        os.kill(before, signal.SIGKILL)

        def replaced() -> bool:
            try:
                return self.pid(name) != before
            except AssertionError:
                return False

        until(replaced, f"{name} to be started again")

    def site(self, path: str, code: str = "HIL") -> Any:
        """Ask a practice site."""
        port = self.options.site_port + ("QUA", "HIL", "NOR").index(code)
        token = {"Authorization": f"Bearer {self.secrets['site_token']}"}
        reply = httpx.get(f"http://127.0.0.1:{port}/v1{path}", headers=token, trust_env=False, timeout=20)
        reply.raise_for_status()
        return reply.json()

    def api(self) -> Api:
        """A client of the API that has signed in."""
        if self._api is None:
            self._api = Api(self.address, self.password, self.options.certificate)
        return self._api


def choose(field: Locator, text: str) -> None:
    """Choose from a list of choices by what it says, or by the beginning of that."""
    field.and_(field.page.get_by_role("combobox")).click()
    # Playwright writes the expression between slashes.
    said = re.compile(rf"^{re.escape(text)}".replace("/", r"\/"))
    field.page.get_by_role("option", name=said).locator("visible=true").first.click()


def focused(page: Page) -> str:
    """What the thing with the focus is called."""
    script = """() => { const e = document.activeElement; if (!e || e === document.body) return "";
        const by = e.getAttribute("aria-label") || (e.labels && e.labels[0] && e.labels[0].innerText) || e.innerText || "";
        return by.trim(); }"""
    return str(page.evaluate(script))


def tab_to(page: Page, label: str, most: int = 160) -> None:
    """Press Tab until what has the focus is called so."""
    for _ in range(most):
        if focused(page).startswith(label):
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"{label!r} was not reached with Tab; at {focused(page)!r}")


def fill_moment(field: Locator, at: datetime) -> None:
    """Type a day and a time as they are shown."""
    field.fill(f"{at.day} {at:%b %Y, %H:%M}")
    field.press("Enter")


def visit(
    case: unittest.TestCase, app: Application, browser: Browser, width: int = 1280, height: int = 800
) -> Page:
    """A page of somebody who signed in; whatever the browser complains of there fails the test.

    Refusals are no complaints, nor is that there is no network: tests mean to meet them. Who has signed in once at this application is signed in from
    then on.
    """
    complaints: list[str] = []

    def listen(message: ConsoleMessage) -> None:
        told_so = "status of 4" in message.text or "ERR_INTERNET_DISCONNECTED" in message.text
        if message.type == "error" and not told_so:
            complaints.append(message.text)

    size = {"width": width, "height": height}
    context = browser.new_context(viewport=size, reduced_motion="reduce", storage_state=app.signed_in)
    case.addCleanup(context.close)
    context.set_default_timeout(PATIENCE_MS)
    page = context.new_page()
    page.on("pageerror", lambda error: complaints.append(str(error)))
    page.on("console", listen)
    page.goto(app.address)
    if app.signed_in is None:
        page.get_by_label("Password").fill(app.password)
        page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("button", name="Sign out")).to_be_visible()
    app.signed_in = {"cookies": context.storage_state()["cookies"], "origins": []}
    case.addCleanup(lambda: case.assertEqual(complaints, []))
    return page


def _read(reply: httpx.Response) -> Any:
    """What was answered; a refusal is raised with its own words."""
    if reply.is_error:
        said = f"{reply.status_code} of {reply.request.method} {reply.request.url.path}: {reply.text[:2000]}"
        raise httpx.HTTPStatusError(said, request=reply.request, response=reply)
    return reply.json()


class Api:
    """The API from a terminal, as it were."""

    def __init__(
        self, address: str, password: str, certificate: str = "", name: str = "administrator"
    ) -> None:
        """``certificate``: of an authority that is trusted besides those of the system."""
        verify = ssl.create_default_context(cafile=certificate) if certificate else True
        self.http = httpx.Client(base_url=f"{address}/api/v1", trust_env=False, timeout=60, verify=verify)
        # By TLS, Django wants to know from which page a change comes.
        self.http.headers["Referer"] = f"{address}/"
        self.token = self.http.get("/session").json()["csrf"]
        body = {"name": name, "password": password}
        reply = self.send("POST", "/session", body)
        self.token = reply["csrf"]

    def get(self, path: str) -> Any:
        """Read."""
        return _read(self.http.get(path))

    def send(self, method: str, path: str, body: Any, **headers: str) -> Any:
        """Change."""
        reply = self.http.request(method, path, json=body, headers={"X-CSRFToken": self.token, **headers})
        return _read(reply)

    def start_test(self, plan: str, pace: int) -> int:
        """Start a test; returns its number."""
        key = {"Idempotency-Key": str(uuid.uuid4())}
        return int(self.send("POST", "/runs", {"plan": plan, "options": {"pace": pace}}, **key)["id"])

    def status(self, run: int) -> Any:
        """How a run stands; None while the server cannot say."""
        try:
            return self.get(f"/runs/{run}")["status"]
        except (httpx.HTTPStatusError, httpx.TransportError):
            return None

    def step(self, run: int, name: str) -> Any:
        """One step of a run."""
        return next(step for step in self.get(f"/runs/{run}")["steps"] if step["id"] == name)
