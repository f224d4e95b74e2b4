"""The name server of the demo: a real one, with the zones of the scenario, that takes changes by a key."""

from __future__ import annotations

import os
import secrets
import shutil
from base64 import b64encode
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from maestoso.names.zone_server import ALGORITHMS, ZoneServers

KNOTD = Path(__file__).resolve().parents[3] / ".tools" / "knot" / "usr" / "sbin" / "knotd"
"""Where the launcher unpacks it, beside the system's own programs."""
KEY_NAME = "maestoso"


def program() -> str | None:
    """The name server that this machine has; None where it has none."""
    return (
        str(KNOTD)
        if KNOTD.exists()
        else shutil.which("knotd", path=f"{os.environ.get('PATH', '')}:/usr/sbin")
    )


# Not slotted: the secret is read once.
@dataclass(frozen=True, kw_only=True)
class PracticeNames:
    """It keeps everything in ``home``, listens on ``port`` of loopback, and begins with the files
    ``ZONE.zone`` (RFC 1035) of the folder ``scenario``."""

    home: Path
    port: int
    scenario: Path

    @property
    def zones(self) -> list[str]:
        """The zones that it has."""
        return sorted(file.stem for file in self.scenario.glob("*.zone"))

    @cached_property
    def secret(self) -> str:
        """The secret of its key in base64, made when it is asked for first."""
        file = self.home / "key"
        if not file.is_file():
            self.home.mkdir(parents=True, exist_ok=True)
            file.touch(mode=0o600)
            file.write_text(b64encode(secrets.token_bytes(32)).decode(), encoding="ascii")
        return file.read_text(encoding="ascii").strip()

    @property
    def address(self) -> str:
        """Host and port."""
        return f"127.0.0.1:{self.port}"

    def servers(self, zone: str) -> ZoneServers:
        """Where one of its zones is, with the key."""
        return ZoneServers(zone=zone, primary=self.address, key_name=KEY_NAME, secret=self.secret)

    @property
    def command(self) -> list[str]:
        """Its command line."""
        return [program() or str(KNOTD), "-c", str(self.home / "knot.conf")]

    def prepare(self) -> None:
        """Write its settings, and its zones where they are not there yet."""
        text = self._settings()
        (self.home / "db").mkdir(exist_ok=True)
        for zone in self.zones:
            kept = self.home / f"{zone}.zone"
            if not kept.exists():
                shutil.copy(self.scenario / f"{zone}.zone", kept)
        settings = self.home / "knot.conf"
        settings.touch(mode=0o600)
        settings.write_text(text, encoding="utf-8")

    def _settings(self) -> str:
        served = "\n".join(
            f"  - domain: {zone}\n    file: {zone}.zone\n    acl: [changes]" for zone in self.zones
        )
        return f"""server:
    rundir: "{self.home}"
    listen: 127.0.0.1@{self.port}
    udp-workers: 1
    tcp-workers: 1
    background-workers: 1
log:
  - target: stderr
    any: warning
database:
    storage: "{self.home}/db"
key:
  - id: {KEY_NAME}
    algorithm: {ALGORITHMS[0]}
    secret: {self.secret}
acl:
  - id: changes
    key: {KEY_NAME}
    action: update
template:
  - id: default
    storage: "{self.home}"
    zonefile-sync: 0
zone:
{served}
"""
