"""What a practice site keeps over a restart: every input with its time, durable before it is answered.

The world is deterministic, so its state is its inputs replayed. Only the copying between sites goes on
without inputs, for ever: of that a snapshot is kept, and what came after it is computed again.
"""

from __future__ import annotations

import json
import sqlite3
import threading
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from maestoso.agent_kit.leases import Leases
from maestoso.core.codec import from_data, to_data
from maestoso.core.model.estate import Inventory, Workload
from maestoso.core.ports import SiteRefused
from maestoso.practice.spec import Fault, SiteSpec, Switch, Trouble
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
            "CREATE TABLE IF NOT EXISTS copying"
            " (one INTEGER PRIMARY KEY, at REAL NOT NULL, data TEXT NOT NULL);"
        )
        self.leases = Leases(self._db, threading.RLock())
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
        kept = self._db.execute("SELECT at, data FROM copying").fetchone()
        world = World(spec, self.created_at, past=kept is None)
        if kept is not None:
            snapshot = json.loads(kept[1])
            world.replication.frozen = True
            world.recalled = snapshot["outcomes"]
            world.known = {item["name"]: from_data(Workload, item) for item in snapshot["known"]}
        for at, kind, data in self._db.execute("SELECT at, kind, data FROM input ORDER BY id"):
            if kept is not None and world.replication.frozen and at > kept[0]:
                _thaw(world, kept[0], snapshot)
            _apply(world, at, kind, json.loads(data))
        if world.replication.frozen:
            _thaw(world, kept[0], snapshot)
        return world

    def keep_copying(self, world: World) -> None:
        """Make a snapshot of the copying."""
        world.care()
        snapshot = {
            "copying": world.replication.keep(),
            "known": to_data(list(world.known.values())),
            "outcomes": world.outcomes(),
        }
        data = json.dumps(snapshot)
        self._db.execute("INSERT OR REPLACE INTO copying VALUES (1, ?, ?)", (world.now, data))

    def submitted(self, at: float, key: str, submission: Submission) -> None:
        """Keep one submission."""
        self.write(at, "submit", {"key": key, "submission": to_data(submission)})

    def close(self) -> None:
        """Close the file."""
        self._db.close()


def _thaw(world: World, at: float, snapshot: dict[str, Any]) -> None:
    world.advance(at)
    world.replication.restore(snapshot["copying"])
    world.replication.frozen = False
    world.recalled = {}


def _apply(world: World, at: float, kind: str, value: Any) -> None:
    if kind == "submit":
        # What was refused then is refused now, too.
        with suppress(SiteRefused):
            world.submit(value["key"], from_data(Submission, value["submission"]), at)
    elif kind == "fault":
        world.add_fault(from_data(Fault, value), at)
    elif kind == "trouble":
        world.add_trouble(from_data(Trouble, value), at)
    elif kind == "switch":
        world.throw(from_data(Switch, value), at)
    elif kind == "away":
        world.set_away(value["source"], value["reason"], at)
    elif kind == "inventory":
        world.set_inventory(from_data(Inventory, value), at)
    else:
        world.clear_faults(at)
