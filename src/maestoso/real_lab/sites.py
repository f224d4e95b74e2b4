"""Two sites on this machine: network namespaces with a line between them, and the agent of each as a process.

The host itself is the third on the line, and reaches the machines of both sites. Everything is found by its
names, so that it can be taken away by whoever did not make it. Isolated networks of tests belong to the
agents.
"""

from __future__ import annotations

import json
import os
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import time
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from maestoso.agents.libvirt.definition import people_say
from maestoso.agents.libvirt.leases import Server
from maestoso.agents.libvirt.networks import Isolation, inside, ip, links
from maestoso.real_lab import certificate, guest_image

STARTS_S = 120.0
MEMORY_MIB = 96
LAN = "lan"


@dataclass(frozen=True, slots=True, kw_only=True)
class Guest:
    """A machine of the lab: ``runs`` is its script at every start, ``second_disk`` its size in MiB or 0,
    ``raw`` whether that is raw."""

    name: str
    last: int
    runs: str
    offers: tuple[tuple[str, str, int], ...]
    uses: tuple[str, ...] = ()
    second_disk: int = 0
    raw: bool = False
    tags: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteOfLab:
    """One site: its code, its place on the line and its network."""

    code: str
    number: int
    lan: str

    def address(self, last: int) -> str:
        """An address of its network."""
        return f"{self.lan}.{last}"


class RealLab:
    """Both sites in a folder. ``name`` (2 or 3 letters) tells one lab from another on the same machine."""

    def __init__(
        self, folder: Path, kit: Path, name: str, *, line: int, port: int = 8700,
        door: tuple[str, str] = ("", ""),
    ) -> None:  # fmt: skip
        """``kit`` is where the guests' kernel is; ``line`` a number that no other lab here has (0 to 60).

        ``door`` is the name of the front door that the first site has, and the machine that it leads to.
        """
        self.folder = folder
        self.kit = kit
        self.name = name
        self.line = f"10.{150 + line}"
        self.port = port
        self.door = door
        self.sites = (
            SiteOfLab(code="ALD", number=1, lan=f"{self.line}.1"),
            SiteOfLab(code="BIR", number=2, lan=f"{self.line}.2"),
        )  # fmt: skip
        self.running: dict[str, subprocess.Popen[bytes]] = {}

    def site(self, code: str) -> SiteOfLab:
        """One of them."""
        return next(site for site in self.sites if site.code == code)

    def door_address(self, code: str, nth: int = 1) -> str:
        """An address on the line that front doors of a site can have."""
        return f"{self.line}.0.{32 * self.site(code).number + nth}"

    def space(self, site: SiteOfLab) -> str:
        """Its namespace."""
        return f"maestoso-{self.name}-{site.code.lower()}"

    def address(self, code: str) -> str:
        """Where it is on the line."""
        return f"{self.line}.0.{10 + self.site(code).number}"

    def root(self, code: str) -> Path:
        """Where libvirt keeps what it knows of a site; short, because the names of sockets must be."""
        return Path("/var/tmp", f"maestoso-{self.name}", code)

    def certificate(self, code: str) -> str:
        """What its agent shows (PEM)."""
        return certificate.public_part(self.folder / code / "agent.pem")

    def url(self, code: str) -> str:
        """Where its agent is."""
        return f"https://{self.address(code)}:{self.port}"

    def token(self, code: str) -> str:
        """What its agent is asked with."""
        return (self.folder / code / "token").read_text().strip()

    @property
    def _bridge(self) -> str:
        return f"maestoso-{self.name}"

    def _cable(self, site: SiteOfLab) -> str:
        return f"mt-{self.name}-{site.number}"

    # --- networks ---

    def make_networks(self) -> None:
        """The line and both sites' networks; what is there stays."""
        if self._bridge not in [link["ifname"] for link in links()]:
            ip("link", "add", self._bridge, "type", "bridge")
        ip("address", "replace", f"{self.line}.0.1/24", "dev", self._bridge)
        ip("link", "set", self._bridge, "up")
        for site in self.sites:
            space, ours = self.space(site), self._cable(site)
            if not Path("/run/netns", space).exists():
                ip("netns", "add", space)
            ip("-n", space, "link", "set", "lo", "up")
            if "line" not in [link["ifname"] for link in links(space)]:
                if ours in [link["ifname"] for link in links()]:
                    ip("link", "delete", ours)
                ip("link", "add", ours, "type", "veth", "peer", "name", "line", "netns", space)
            ip("link", "set", ours, "master", self._bridge, "up")
            if "br0" not in [link["ifname"] for link in links(space)]:
                ip("-n", space, "link", "add", "br0", "type", "bridge")
            ip("-n", space, "address", "replace", f"{self.address(site.code)}/24", "dev", "line")
            ip("-n", space, "address", "replace", f"{site.address(1)}/24", "dev", "br0")
            for device in ("line", "br0"):
                ip("-n", space, "link", "set", device, "up")
            inside(space, lambda: Path("/proc/sys/net/ipv4/ip_forward").write_text("1"))
            for other in self.sites:
                if other is not site:
                    there = f"{other.lan}.0/24"
                    ip("-n", space, "route", "replace", there, "via", self.address(other.code))
            ip("route", "replace", f"{site.lan}.0/24", "via", self.address(site.code))

    def remove_networks(self) -> None:
        """Take them away; what is not there is no fault."""
        for site in self.sites:
            # Not only with its namespace, which the kernel takes away when it has time.
            if self._cable(site) in [link["ifname"] for link in links()]:
                ip("link", "delete", self._cable(site))
            if Path("/run/netns", self.space(site)).exists():
                ip("netns", "delete", self.space(site))
        if self._bridge in [link["ifname"] for link in links()]:
            ip("link", "delete", self._bridge)

    # --- agents ---

    def write_settings(self) -> None:
        """The settings of both agents, a token of each and the secret between them."""
        for site in self.sites:
            home = self.folder / site.code
            home.mkdir(parents=True, exist_ok=True)
            for file in (home / "token", self.folder / "secret"):
                if not file.is_file():
                    file.touch(0o600)
                    file.write_text(os.urandom(32).hex())
            if not (home / "agent.pem").is_file():
                certificate.write(home / "agent.pem", f"agent of {site.code}", self.address(site.code))
        for site in self.sites:
            other = next(one for one in self.sites if one is not site)
            (self.folder / f"{site.code}.toml").write_text(f"""\
site = "{site.code}"
uri = "qemu:///embed?root={self.root(site.code)}"
folder = "{self.folder / site.code}"
host = "{self.address(site.code)}"
port = {self.port}
lab = true
certificate = "{self.folder / site.code / "agent.pem"}"
key = "{self.folder / site.code / "agent.pem"}"

[storage.disks]
folder = "{self.folder / site.code / "disks"}"

[networks.{LAN}]
bridge = "br0"
dhcp = true
prefixes = ["{site.lan}.0/24"]
gateways = ["{site.address(1)}"]

[front_doors]
interface = "line"
addresses = ["{self.door_address(site.code, 0)}/28"]
{self._own_door(site)}
[sites.{other.code}]
address = "{self.url(other.code)}"
secret_file = "{self.folder / "secret"}"
certificate = "{self.folder / other.code / "agent.pem"}"
""")

    def _own_door(self, site: SiteOfLab) -> str:
        name, machine = self.door
        if site is not self.sites[0] or not name:
            return ""
        return f"""\
[front_doors.own.{name}]
address = "{self.door_address(site.code)}"
ports = ["tcp/80"]
machine = "{machine}"
"""

    def start_agent(self, code: str) -> None:
        """Start the agent of a site in its namespace, and wait until it listens."""
        site = self.site(code)
        log = (self.folder / f"{code}.log").open("ab")
        command = [
            "nsenter", f"--net=/run/netns/{self.space(site)}", sys.executable, "-m",
            "maestoso.agents.libvirt",
            str(self.folder / f"{code}.toml"),
        ]  # fmt: skip
        self.running[code] = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True,
            env={**os.environ, "PYTHONPATH": str(Path(__file__).parents[2])},
        )  # fmt: skip
        log.close()
        (self.folder / f"{code}.pid").write_text(str(self.running[code].pid))
        end = time.monotonic() + STARTS_S
        while not self._listens(site):
            if self.running[code].poll() is not None or time.monotonic() > end:
                said = (self.folder / f"{code}.log").read_text(errors="replace")[-2000:]
                raise RuntimeError(f"The agent of {code} does not start: {said}")
            time.sleep(0.1)

    def _listens(self, site: SiteOfLab) -> bool:
        try:
            socket.create_connection((self.address(site.code), self.port), 2).close()
        except OSError:
            return False
        return True

    def agent_runs(self, code: str) -> int:
        """The number of the process of an agent, whoever started it; 0 where none runs."""
        try:
            number = int((self.folder / f"{code}.pid").read_text())
            command = Path(f"/proc/{number}/cmdline").read_bytes().split(b"\0")
        except (OSError, ValueError):
            return 0
        return number if str(self.folder / f"{code}.toml").encode() in command else 0

    def kill_agent(self, code: str) -> None:
        """SIGKILL; its machines go on."""
        number = self.agent_runs(code)
        if number:
            os.kill(number, signal.SIGKILL)
        if process := self.running.pop(code, None):
            process.wait()

    def machines(self, code: str) -> dict[str, int]:
        """The machines of a site that run, and the numbers of their processes."""
        found = {}
        for file in (self.root(code) / "run" / "qemu").glob("*.pid"):
            try:
                number = int(file.read_text())
            except (OSError, ValueError):
                continue
            if file.stem != "driver" and Path(f"/proc/{number}").exists():  # that one is the agent itself
                found[file.stem] = number
        return found

    def kill_machines(self, code: str) -> list[str]:
        """SIGKILL to every QEMU of a site: the power of a whole site is gone."""
        killed = []
        for name, number in self.machines(code).items():
            with suppress(ProcessLookupError):  # it ended by itself
                os.kill(number, signal.SIGKILL)
                killed.append(name)
        return killed

    def end(self) -> None:
        """Agents, machines, networks: nothing of it is left but the folder."""
        for site in self.sites:
            self.kill_agent(site.code)
            self.kill_machines(site.code)
        isolated = self._isolated()
        for code, mark, network in isolated:
            Server(code, mark, network).end()
        for space in {Isolation(code).space(mark) for code, mark, _ in isolated}:
            if Path("/run/netns", space).exists():
                ip("netns", "delete", space)
        self.remove_networks()

    def _isolated(self) -> set[tuple[str, str, str]]:
        """Isolated networks of tests that are noted in the agents' files: site, mark of the test, name."""
        found = set()
        for site in self.sites:
            file = self.folder / site.code / "agent.sqlite"
            if file.is_file():
                with sqlite3.connect(file) as kept:
                    notes = kept.execute(
                        "SELECT name, value FROM note WHERE name LIKE 'sandbox:%'"
                    ).fetchall()
                found |= {
                    (site.code, json.loads(value)["mark"], name.removeprefix("sandbox:"))
                    for name, value in notes
                }
        return found

    def remove(self) -> None:
        """As ``end``, and the folder with all disks, too."""
        self.end()
        shutil.rmtree(self.folder, ignore_errors=True)
        shutil.rmtree(self.root("x").parent, ignore_errors=True)

    # --- guests ---

    def make_guest(self, code: str, guest: Guest) -> None:
        """Its disks and its definition at a site; before the agent of that site is started."""
        site, disks = self.site(code), self.folder / code / "disks"
        disks.mkdir(parents=True, exist_ok=True)
        first = disks / f"{guest.name}.qcow2"
        guest_image.data_disk(
            first,
            guest.name,
            rc=guest.runs,
            address=f"{site.address(guest.last)}/24",
            gateway=site.address(1),
        )
        files = [first]
        if guest.second_disk:
            kind = "raw" if guest.raw else "qcow2"
            files.append(disks / f"{guest.name}-b.{kind}")
            command = ["qemu-img", "create", "-q", "-f", kind, str(files[1]), f"{guest.second_disk}M"]
            subprocess.run(command, check=True)
        place = self.root(code) / "etc" / "qemu"
        place.mkdir(parents=True, exist_ok=True)
        (place / f"{guest.name}.xml").write_text(self.definition(site, guest, files))

    def definition(self, site: SiteOfLab, guest: Guest, files: list[Path]) -> str:
        """The definition (XML) of a guest. Its processor is emulated: slower, and the same on every
        machine; where this one is a virtual machine itself, what its processor promises is not always
        kept."""
        said: dict[str, Any] = {
            "tags": guest.tags, "uses": guest.uses,
            "offers": [dict(zip(("name", "protocol", "port"), one, strict=True)) for one in guest.offers],
        }  # fmt: skip
        disks = "".join(
            f"<disk type='file' device='disk'><driver name='qemu' type='{file.suffix[1:]}' discard='unmap'/>"
            f"<source file='{file}'/><target dev='vd{letter}' bus='virtio'/></disk>"
            for letter, file in zip("abc", files, strict=False)
        )
        return f"""\
<domain type='qemu'>
  <name>{guest.name}</name>
  <metadata>{ElementTree.tostring(people_say(said), encoding="unicode")}</metadata>
  <memory unit='MiB'>{MEMORY_MIB}</memory><vcpu>1</vcpu>
  <os>
    <type arch='x86_64' machine='pc'>hvm</type>
    <kernel>{self.kit / "kernel"}</kernel><initrd>{self.kit / "initrd"}</initrd>
    <cmdline>{guest_image.COMMAND_LINE}</cmdline>
  </os>
  <features><acpi/><tcg><tb-cache unit='MiB'>32</tb-cache></tcg></features>
  <cpu mode='custom' match='minimum' check='none'><model fallback='allow'>qemu64</model></cpu>
  <on_poweroff>destroy</on_poweroff><on_reboot>restart</on_reboot><on_crash>destroy</on_crash>
  <devices>
    <emulator>/usr/bin/qemu-system-x86_64</emulator>{disks}
    <controller type='usb' model='none'/>
    <interface type='bridge'>
      <mac address='52:54:00:{150 + site.number:02x}:00:{guest.last:02x}'/>
      <source bridge='br0'/><model type='virtio'/><rom enabled='no'/>
    </interface>
    <channel type='unix'><target type='virtio' name='org.qemu.guest_agent.0'/></channel>
    <serial type='pty'/>
    <memballoon model='none'/>
  </devices>
</domain>
"""
