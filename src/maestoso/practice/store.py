"""What a practice site keeps over a restart: every input with its time, durable before it is answered.

The world is deterministic, so its state is its inputs replayed.
"""

from __future__ import annotations

import json
import sqlite3
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from maestoso.core.codec import from_data, to_data
from maestoso.core.ports import SiteRefused
from maestoso.practice.spec import Fault, SiteSpec
from maestoso.practice.world import World
from maestoso.sites.contract import Submission


class Store:
    """The input log of one practice site in one SQLite file."""

    def __init__(self, file: Path, now: datetime) -> None:
        file.parent.mkdir(parents=True, exist_ok=True)
        self._db = sqlite3.connect(file, isolation_level=None, check_same_thread=False)
        # FULL: an operation that was answered must be known after a power cut, not only after a kill.
        self._db.executescript(
            "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;"
            "CREATE TABLE IF NOT EXISTS born (at TEXT NOT NULL);"
            "CREATE TABLE IF NOT EXISTS input"
            " (id INTEGER PRIMARY KEY, at REAL NOT NULL, kind TEXT NOT NULL, data TEXT NOT NULL);"
        )
        row = self._db.execute("SELECT at FROM born").fetchone()
        if row is None:
            self._db.execute("INSERT INTO born VALUES (?)", (now.astimezone(UTC).isoformat(),))
            row = (now.astimezone(UTC).isoformat(),)
        self.created_at = datetime.fromisoformat(row[0])

    def write(self, at: float, kind: str, data: Any) -> None:
        """Make one input durable."""
        self._db.execute("INSERT INTO input (at, kind, data) VALUES (?, ?, ?)", (at, kind, json.dumps(data)))

    def replay(self, spec: SiteSpec) -> World:
        """The world after all inputs so far."""
        world = World(spec, self.created_at)
        for at, kind, data in self._db.execute("SELECT at, kind, data FROM input ORDER BY id"):
            value = json.loads(data)
            if kind == "submit":
                try:
                    world.submit(value["key"], from_data(Submission, value["submission"]), at)
                except SiteRefused:
                    continue  # it was refused then, too
            elif kind == "fault":
                world.add_fault(from_data(Fault, value), at)
            else:
                world.clear_faults(at)
        return world

    def submitted(self, at: float, key: str, submission: Submission) -> None:
        """Keep one submission."""
        self.write(at, "submit", {"key": key, "submission": to_data(submission)})

    def close(self) -> None:
        """Close the file."""
        self._db.close()
