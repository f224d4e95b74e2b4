"""Real name servers on loopback: the one of the demo, and a second one that follows it."""

from __future__ import annotations

import subprocess
import tempfile
import unittest
from pathlib import Path

import dns.message
import dns.query

from maestoso.core.model.names import NameChange
from maestoso.names.zone_server import ZoneServers
from maestoso.practice.name_server import PracticeNames
from tests.e2e.application import until
from tests.ports import free_port

ZONE = "tidewell.example"
BOOKING = "booking.tidewell.example"
MOVED = NameChange(
    zone=ZONE,
    name=BOOKING,
    type="A",
    ttl_s=60,
    after=("172.18.6.11",),
    before=("10.20.6.11",),
    before_ttl_s=120,
)
TEXT = """$ORIGIN tidewell.example.
$TTL 3600
@        SOA   ns1 hostmaster 1 3600 900 1209600 300
@        NS    ns1
ns1      A     192.0.2.53
booking  120 A 10.20.6.11
tickets  120 CNAME booking
"""


class Knot:
    """One process; ``close`` ends it, ``start`` starts it again with what it kept."""

    def __init__(self, home: Path, port: int) -> None:
        self.home, self.port = home, port
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def address(self) -> str:
        """Host and port."""
        return f"127.0.0.1:{self.port}"

    def start(self, command: list[str]) -> None:
        """Start it, and wait until it answers for the zone."""
        self.command = command
        with (self.home / "log").open("ab") as log:
            self.process = subprocess.Popen(command, stdout=log, stderr=log)
        until(lambda: self.serves() or self.process.poll() is not None, "the name server")  # type: ignore[union-attr]
        if self.process.poll() is not None:
            raise AssertionError((self.home / "log").read_text())

    def again(self) -> None:
        """Start it as it was."""
        self.start(self.command)

    def serves(self) -> bool:
        """Whether it answers for the zone."""
        question = dns.message.make_query(ZONE, "SOA")
        try:
            return bool(dns.query.udp(question, "127.0.0.1", port=self.port, timeout=1).answer)
        except (OSError, dns.exception.Timeout):
            return False

    def close(self) -> None:
        """End it."""
        if self.process is not None:
            self.process.terminate()
            self.process.wait(60)
            self.process = None


class WithServers(unittest.TestCase):
    """A primary server, and on demand a second one; both hold the zone above."""

    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        scenario = self.folder / "scenario"
        scenario.mkdir()
        (scenario / f"{ZONE}.zone").write_text(TEXT)
        self.names = PracticeNames(home=self.folder / "primary", port=free_port(), scenario=scenario)
        self.names.prepare()
        self.primary = Knot(self.names.home, self.names.port)
        self.addCleanup(self.primary.close)
        # Whoever is on this machine may copy the zone.
        settings = self.names.home / "knot.conf"
        text = settings.read_text().replace("acl: [changes]", "acl: [changes, copies]")
        settings.write_text(
            text.replace("acl:\n", "acl:\n  - id: copies\n    address: 127.0.0.1\n    action: transfer\n", 1)
        )
        self.primary.start(self.names.command)
        self.servers: ZoneServers = self.names.servers(ZONE)

    def second(self, *, refresh_s: int) -> Knot:
        """One that looks for changes every so many seconds."""
        home = self.folder / "second"
        (home / "db").mkdir(parents=True)
        found = Knot(home, free_port())
        (home / "knot.conf").write_text(
            f"server:\n    rundir: {home}\n    listen: 127.0.0.1@{found.port}\n"
            f"    udp-workers: 1\n    tcp-workers: 1\n    background-workers: 1\n"
            f"database:\n    storage: {home}/db\n"
            f"remote:\n  - id: primary\n    address: 127.0.0.1@{self.names.port}\n"
            f"zone:\n  - domain: {ZONE}\n    storage: {home}\n    master: primary\n"
            f"    refresh-min-interval: 2\n    refresh-max-interval: {refresh_s}\n"
        )
        self.addCleanup(found.close)
        found.start([self.names.command[0], "-c", str(home / "knot.conf")])
        return found
