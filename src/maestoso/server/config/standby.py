"""What a standby follows, in a file beside its secrets: an installation that has one is a standby."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from maestoso.server.config.options import STANDBY

WORDS = "take over"
"""What is typed, so that nobody takes over by one click."""
ASKS = "SHOW SLAVE STATUS"
NOBODY = "it follows nobody"


@dataclass(frozen=True, slots=True, kw_only=True)
class Standby:
    """What a standby follows: where, since when (RFC 3339), and behind which position it began.

    ``taking_over``: somebody has said that it takes over, in its pages (``by``) or on the machine itself,
    or the ``witness`` of this code gave it the lease.
    ``failed`` is why that could not be done the last time.
    """

    host: str
    port: int
    since: str
    position: str
    taking_over: bool = False
    by: str = ""
    witness: str = ""
    failed: str = ""


def read_standby(var: Path) -> Standby | None:
    """What the installation in a directory follows; None for one that conducts."""
    try:
        return Standby(**json.loads((var / STANDBY).read_text(encoding="utf-8")))
    except FileNotFoundError:
        return None


def write_standby(var: Path, standby: Standby) -> None:
    """From now on that is so; who reads meanwhile finds what was, or what is."""
    made = var / f"{STANDBY}.new"
    made.write_text(json.dumps(asdict(standby), indent=1), encoding="utf-8")
    made.replace(var / STANDBY)


def conducts_now(var: Path) -> None:
    """It follows nobody any more."""
    (var / STANDBY).unlink(missing_ok=True)
    folder = os.open(var, os.O_RDONLY)
    try:
        # A power cut must not bring back what is over.
        os.fsync(folder)
    finally:
        os.close(folder)


@dataclass(frozen=True, slots=True, kw_only=True)
class Following:
    """How the following goes: ``behind_s`` is None while it does not; ``trouble`` says why."""

    connected: bool
    behind_s: int | None
    trouble: str

    def in_words(self) -> str:
        """A sentence."""
        if self.behind_s is None or not self.connected:
            return f"It does not hear from it: {self.trouble or 'the line is being made'}."
        return "It has all that the primary has." if not self.behind_s else f"It is {self.behind_s} s behind."


def understood(row: Mapping[str, Any]) -> Following:
    """What the database answers to :data:`ASKS`, by column; nothing where it follows nobody."""
    said = str(row.get("Last_SQL_Error") or row.get("Last_IO_Error") or "") if row else NOBODY
    # What it tried to reach, and how often it will, stands in front.
    trouble = said.rpartition(" message: ")[2]
    if "SSL connection error" in said:
        trouble = "what answers there has not the certificate that came with the backup"
    elif why := re.search(r"Can't connect to server .*\(\d+ \"(.+)\"\)", said):
        trouble = f"it cannot be reached ({why[1].lower()})"
    return Following(
        connected=row.get("Slave_IO_Running") == "Yes", behind_s=row.get("Seconds_Behind_Master"),
        trouble=trouble,
    )  # fmt: skip
