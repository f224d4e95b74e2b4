"""Two sites of real machines for tests: a database that counts, and an application that makes it count."""

from __future__ import annotations

import os
import ssl
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import httpx

from maestoso.agent_kit.conformance.client import Client
from maestoso.agents.libvirt import definition
from maestoso.agents.libvirt.chains import Image
from maestoso.agents.libvirt.networks import ip, links
from maestoso.core.codec import to_data
from maestoso.core.model.protection import Policy
from maestoso.real_lab import ledger, ready
from maestoso.real_lab.sites import Guest, RealLab
from maestoso.server.config.options import ROOT
from tests.e2e.application import Api, until
from tests.prepared import WORKER

HOME, AWAY = "ALD", "BIR"
MEMBERS = ("db", "app")
PLAN = "SHOP"
KEY = "a key of the shop's copies"
DOOR = ("shop-front", "app")
GUESTS = (
    Guest(
        name="db", last=11, second_disk=16, raw=True, offers=(("count", "http", 80),), tags={"tier": "data"},
        runs="httpd -h /www -p 80\n",
    ),
    Guest(
        name="app", last=12, second_disk=16, offers=(("shop", "http", 80),), uses=("count",), tags={"tier": "app"},
        runs="httpd -h /www -p 80\nwriter 11\n",
    ),
)  # fmt: skip


class Sites:
    """A lab of one test, taken away with it."""

    def __init__(self, case: unittest.TestCase) -> None:
        folder = Path(tempfile.mkdtemp(prefix="maestoso-guests-"))
        kit = ready.prepare(ready.FOLDER)
        # Workers of one run have numbers that follow each other.
        number = int(os.environ.get(WORKER, os.getpid())) % 60
        self.lab = RealLab(folder, kit, f"t{number}", line=number, door=DOOR)
        case.addCleanup(self.lab.remove)
        case.addCleanup(self._say_what_they_said, case)
        self.lab.make_networks()
        self.lab.write_settings()
        for guest in GUESTS:
            self.lab.make_guest(HOME, guest)
        for code in (HOME, AWAY):
            self.lab.start_agent(code)
        self.agents = {code: self._client(case, code) for code in (HOME, AWAY)}

    def _client(self, case: unittest.TestCase, code: str) -> Client:
        trust = ssl.create_default_context(cadata=self.lab.certificate(code))
        client = Client(self.lab.url(code), self.lab.token(code), code, trust)
        case.addCleanup(client.http.close)
        return client

    def _say_what_they_said(self, case: unittest.TestCase) -> None:
        """The ends of the agents' logs, where the test failed."""
        outcome = getattr(case, "_outcome", None)
        if outcome is not None and not outcome.success:
            for code in (HOME, AWAY):
                file = self.lab.folder / f"{code}.log"
                print(f"--- {code}:\n{file.read_text(errors='replace')[-6000:]}" if file.is_file() else code)

    def start_production(self) -> None:
        """Power for both, and wait until they count."""
        self.power_production()
        self.production_counts()

    def power_production(self) -> None:
        """Both begin to boot."""
        for name in MEMBERS:
            self.agents[HOME].done("power-on", name)

    def production_counts(self) -> None:
        """Wait until it does, and its agent knows where."""
        until(lambda: self.count(HOME) > 0, "production to count")
        until(lambda: all(self.addresses(HOME).values()), "the agent to see the addresses of production")

    def addresses(self, code: str) -> dict[str, list[str]]:
        """What the agent of a site knows of the addresses of its machines."""
        told = self.agents[code].get("/inventory", "Inventory")["workloads"]
        return {one["name"]: [at for nic in one["nics"] for at in nic.get("addresses", ())] for one in told}

    def state(self, code: str, last: int = 11) -> dict[str, str]:
        """What a guest says of itself to who asks it over the network; nothing where it does not answer."""
        at = self.lab.site(code).address(last)
        try:
            said = httpx.get(f"http://{at}/cgi-bin/state", timeout=5, trust_env=False).text
        except httpx.HTTPError:
            return {}
        return dict(line.split(" ", 1) for line in said.splitlines() if " " in line)

    def count(self, code: str) -> int:
        """The count of the database at a site; 0 where it does not answer."""
        return int(self.state(code).get("count", "") or 0)

    def through(self, code: str, nth: int = 1) -> str:
        """What whoever comes from outside is told, through an address for front doors of a site."""
        at = self.lab.door_address(code, nth)
        try:
            return httpx.get(f"http://{at}/cgi-bin/state", timeout=5, trust_env=False).text
        except httpx.HTTPError:
            return ""

    def disks(self, code: str, name: str) -> list[Image]:
        """The files that a machine has now, by its agent's definition."""
        file = self.lab.root(code) / "etc" / "qemu" / f"{name}.xml"
        return [Image(disk.file, disk.format) for disk in definition.disks(ElementTree.parse(file).getroot())]

    def start_command(self, code: str) -> list[str]:
        """What starts the agent of a site, for who wants to do that."""
        space = self.lab.space(self.lab.site(code))
        return [
            "env", f"PYTHONPATH={ROOT / 'src'}", "nsenter", f"--net=/run/netns/{space}", sys.executable, "-m",
            "maestoso.agents.libvirt", str(self.lab.folder / f"{code}.toml"),
        ]  # fmt: skip


def left_on_the_host(lab: RealLab) -> list[str]:
    """Devices and namespaces of a lab, or of the tests in it."""
    devices = [
        link["ifname"]
        for link in links()
        if link["ifname"].startswith((f"mt-{lab.name}-", f"maestoso-{lab.name}"))
    ]
    spaces = [
        line.split()[0]
        for line in ip("netns", "list").splitlines()
        if line.startswith(f"maestoso-{lab.name}-")
    ]
    return devices + spaces


def make_known(api: Api, lab: RealLab, key: str = KEY) -> None:
    """Register both sites, and have the two machines as a group and as a plan. Without a key, copies are in
    clear."""
    for body in ledger.sites(lab):
        api.send("POST", "/sites", body)
    api.send("PUT", "/links", ledger.link(lab))
    for walk in ledger.crosswalks(lab):
        api.send("POST", "/crosswalks", walk)
    policy = to_data(
        Policy(interval_s=5, rpo_s=600, app_consistent_every_s=3600, keep_all_s=60, encrypted=bool(key))
    )
    group = {
        "code": "shop", "name": "Shop", "source": HOME, "target": AWAY, "members": list(MEMBERS), "policy": policy,
        "tag_rule": "",
    }  # fmt: skip
    api.send("POST", "/groups", {"group": group, "key": key})
    waves = [{"name": name.title(), "members": [{"workload": name}]} for name in MEMBERS]
    plan = {
        "code": PLAN, "name": "Shop", "source": HOME, "target": AWAY, "rto_s": 600, "rpo_s": 600, "waves": waves,
        "cues": ledger.door_cues(lab),
    }  # fmt: skip
    api.send("POST", "/plans", {"plan": plan})


def definition_of(sites: Sites, **policy: Any) -> dict[str, Any]:
    """The group of both."""
    return {
        "code": "shop", "name": "Shop", "source": HOME, "target": AWAY, "members": list(MEMBERS),
        "policy": {"interval_s": 5, "rpo_s": 60, "app_consistent_every_s": 0, **policy},
    }  # fmt: skip


if not ready.why_not():
    ip("link", "set", "lo", "up")  # in a network namespace of its own it is not

needs_real_machines = unittest.skipIf(ready.why_not(), ready.why_not())
