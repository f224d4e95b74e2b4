"""Two sites of folders as agents in this process or in one of their own; the second copies the shop of the first."""

from __future__ import annotations

import json
import os
import socket
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path
from typing import Any

import uvicorn

from maestoso.agent_kit.conformance.client import Client, wait_until
from maestoso.agent_kit.folders import Folders
from maestoso.agent_kit.platform import Platform
from maestoso.agent_kit.server import application
from maestoso.agent_kit.store import Store
from maestoso.agent_kit.tokens import Tokens
from tests.ports import free_port

SRC = Path(__file__).resolve().parents[2] / "src"
HOME, AWAY = "ALD", "BIR"
OTHER = {HOME: AWAY, AWAY: HOME}
MEMBERS = ("db", "web")
TOKEN = "a-token-for-tests"
PREFIXES = {HOME: "192.0.2.0/24", AWAY: "198.51.100.0/24"}
HAS: dict[str, Any] = {
    "host_pools": [{"name": "pool", "hosts": 1, "cores": 8, "memory_mib": 16384}],
    "storage_pools": [{"name": "disk", "capacity_gib": 100}],
    "networks": [{"name": "lan", "vlan": 1, "prefixes": ["192.0.2.0/24"]}],
    "folders": [],
}


def spec(name: str, number: int) -> dict[str, Any]:
    """A workload with one disk, one adapter and one service."""
    return {
        "name": name, "cores": 1, "memory_mib": 512, "host_pool": "pool",
        "disks": [{"name": "d0", "size_gib": 1, "storage_pool": "disk"}],
        "nics": [
            {
                "name": "nic0", "network": "lan", "mac": f"02:00:5e:00:53:1{number}",
                "addresses": [f"192.0.2.1{number}/24"],
            }
        ],
        "offers": [{"name": f"{name}-service", "protocol": "tcp", "port": 80 + number}],
    }  # fmt: skip


class TwoSites:
    """Their folders, and their agents as far as they were started."""

    def __init__(self, case: unittest.TestCase) -> None:
        self.case = case
        folder = tempfile.TemporaryDirectory()
        case.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.running: dict[str, subprocess.Popen[bytes]] = {}
        self.deaths: list[int] = []
        self.lost: set[str] = set()
        for code in OTHER:
            (self.folder / code).mkdir()
            networks = [{**HAS["networks"][0], "prefixes": [PREFIXES[code]]}]
            (self.folder / code / "site.json").write_text(json.dumps({**HAS, "networks": networks}))
            (self.folder / f"token-{code}").write_text(f"{TOKEN}\n")
        for number, name in enumerate(MEMBERS):
            self._machine(name, spec(name, number))

    def _machine(self, name: str, about: dict[str, Any]) -> None:
        disks = self.folder / HOME / "machines" / name / "disks"
        disks.mkdir(parents=True)
        (disks / "d0.img").write_bytes(b"0" * 1000)
        machine = {
            "name": name, "workload": about, "own": True, "mark": "", "group": "", "registered": True,
            "powered": True, "powered_at": 0.0, "fenced": False, "ran_until": "", "host_pool": "pool", "folder": "", "cores": 1,
            "memory_mib": 512,
            "nics": [{"nic": "nic0", "network": "lan", "mac": about["nics"][0]["mac"], "addresses": []}],
        }  # fmt: skip
        (disks.parent / "machine.json").write_text(json.dumps(machine))

    def machine(self, code: str, name: str) -> dict[str, Any]:
        """A machine as its agent keeps it."""
        found: dict[str, Any] = json.loads(
            (self.folder / code / "machines" / name / "machine.json").read_text()
        )
        return found

    def processes_that_die(self, wanted: Path) -> dict[str, Client]:
        """Both agents, which die where the file says, and are started again at once until the test ends."""
        ports = {code: free_port() for code in OTHER}
        env = {"MAESTOSO_CRASH_POINTS": str(wanted)}
        found = {code: self.process(code, port, **env) for code, port in ports.items()}
        over = threading.Event()

        def look_after(code: str) -> None:
            while not over.wait(0.05):
                status = self.running[code].poll()
                if status is not None and code not in self.lost:
                    self.deaths.append(status)
                    self.running[code] = subprocess.Popen(
                        self.command(code, ports[code]), env=environment(**env)
                    )

        watchers = [threading.Thread(target=look_after, args=(code,)) for code in OTHER]
        for watcher in watchers:
            watcher.start()
            self.case.addCleanup(watcher.join)
        self.case.addCleanup(over.set)
        return found

    def lose(self, code: str) -> None:
        """A site is gone, and does not come back."""
        self.lost.add(code)
        self.end(code)

    def end(self, code: str) -> None:
        """SIGKILL to the process of an agent."""
        self.running[code].kill()
        self.running[code].wait()

    def platform(self, code: str, kind: type[Folders] = Folders) -> Folders:
        """The platform of a site."""
        other = OTHER[code]
        return kind(code, self.folder / code, {other: self.folder / other})

    def agent(self, code: str, kind: type[Folders] = Folders) -> Client:
        """Serve a site in this process, and speak to it."""
        return serve(self.case, self.platform(code, kind), self.folder / code / "agent.sqlite", code)

    def command(self, code: str, port: int) -> list[str]:
        """What starts the agent of a site in a process of its own."""
        other = OTHER[code]
        return [
            sys.executable, "-m", "maestoso.agent_kit", "folders", str(self.folder / code), "--site", code,
            "--port", str(port), "--token-file", str(self.folder / f"token-{code}"),
            "--other", f"{other}={self.folder / other}",
        ]  # fmt: skip

    def process(self, code: str, port: int, **env: str) -> Client:
        """Start the agent of a site in a process of its own, which ends with the test."""
        self.running[code] = subprocess.Popen(self.command(code, port), env=environment(**env))
        self.case.addCleanup(self.end, code)
        return reached(self.case, port, code)


def environment(**more: str) -> dict[str, str]:
    """As a process of an agent needs it."""
    return {**os.environ, "PYTHONPATH": str(SRC), **more}


def reached(case: unittest.TestCase, port: int, name: str) -> Client:
    """A line to an agent that is coming up."""
    client = Client(f"http://127.0.0.1:{port}", TOKEN, name)
    case.addCleanup(client.http.close)

    def there() -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", port)) == 0

    case.assertTrue(wait_until(there))
    return client


def serve(case: unittest.TestCase, platform: Platform, state: Path, name: str) -> Client:
    """Serve a platform in this process, until the test ends."""
    tokens = Tokens(state.with_name(f"token-{name}"))
    state.with_name(f"token-{name}").write_text(f"{TOKEN}\n")
    app, port = application(platform, Store(state), tokens), free_port()
    config = uvicorn.Config(app, host="127.0.0.1", port=port, log_level="error", timeout_graceful_shutdown=1)
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run)
    thread.start()

    def end() -> None:
        server.should_exit = True
        thread.join()

    case.addCleanup(end)
    return reached(case, port, name)


def protected(site: Client) -> None:
    """Have the second copy the shop, and wait for the first point."""
    group = {
        "code": "shop", "name": "Shop", "source": HOME, "target": AWAY, "members": list(MEMBERS),
        "policy": {"interval_s": 3600, "rpo_s": 7200},
    }  # fmt: skip
    specs = [spec(name, number) for number, name in enumerate(MEMBERS)]
    site.done("protect", "shop", group=group, digest="one", workloads=specs, link=None)
    points = wait_until(lambda: site.get("/points", "Points", group="shop")["points"], 60)
    if not points:
        raise AssertionError("no point was made")
