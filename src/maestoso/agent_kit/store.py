"""What an agent keeps over a restart, in one SQLite file: keys, fences, the journal, held landings, notes.

An operation is settled in one transaction with its effect's entry in the journal and the platform's notes, so
that a key which is known to be done was done, and what the agent itself keeps is never half changed.
"""

from __future__ import annotations

import json
import sqlite3
import threading
import time
import uuid
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from .leases import Leases

KEPT_S = 90 * 86400.0
"""How long the key of a settled operation is kept: longer than the longest run."""

TABLES = """
PRAGMA journal_mode=WAL;
PRAGMA synchronous=FULL;
CREATE TABLE IF NOT EXISTS about (name TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS operation (
  key TEXT PRIMARY KEY, number INTEGER NOT NULL, changed INTEGER NOT NULL, run TEXT NOT NULL,
  fence INTEGER NOT NULL, verb TEXT NOT NULL, subject TEXT NOT NULL, args TEXT NOT NULL, pace REAL NOT NULL,
  secret INTEGER NOT NULL, status TEXT NOT NULL, result TEXT NOT NULL DEFAULT '{}',
  code TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '', accepted_at REAL NOT NULL, settled_at REAL,
  before_s REAL NOT NULL DEFAULT 0);
CREATE UNIQUE INDEX IF NOT EXISTS by_change ON operation (changed);
CREATE TABLE IF NOT EXISTS fence (run TEXT PRIMARY KEY, fence INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS reign (installation TEXT PRIMARY KEY, reign INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS journal (
  seq INTEGER PRIMARY KEY, at REAL NOT NULL, key TEXT NOT NULL, fence INTEGER NOT NULL, verb TEXT NOT NULL,
  subject TEXT NOT NULL, effect TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS held (workload TEXT PRIMARY KEY, landing TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS note (name TEXT PRIMARY KEY, value TEXT NOT NULL);
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """One operation as it is kept. ``secret``: it came with secrets, which are not kept."""

    key: str
    run: str
    fence: int
    verb: str
    subject: str
    args: dict[str, Any]
    pace: float
    secret: bool
    status: str
    result: dict[str, Any]
    code: str
    reason: str
    accepted_at: float
    settled_at: float | None
    before_s: float

    def state(self) -> dict[str, Any]:
        """As the protocol says it."""
        told: dict[str, Any] = {"key": self.key, "status": self.status, "result": self.result}
        if self.status == "failed":
            told |= {"code": self.code, "reason": self.reason}
        if self.settled_at is not None:
            told |= {"took_s": round(max(self.settled_at - self.accepted_at, 0.0), 6)}
        return {**told, "before_s": round(self.before_s, 6)} if self.before_s else told


_COLUMNS = ", ".join(Kept.__dataclass_fields__)


class Store:
    """The file. Every method is one transaction; threads take turns."""

    def __init__(self, file: Path) -> None:
        file.parent.mkdir(parents=True, exist_ok=True)
        self._turn = threading.RLock()
        self._db = sqlite3.connect(file, isolation_level=None, check_same_thread=False)
        self._db.executescript(TABLES)
        self.leases = Leases(self._db, self._turn)
        self._db.execute("INSERT OR IGNORE INTO about VALUES ('made', ?)", (uuid.uuid4().hex[:12],))
        made = self._db.execute("SELECT value FROM about WHERE name='made'").fetchone()[0]
        # A file that was put back from a backup is another file, though what it says is the same.
        self.epoch = f"{made}-{file.stat().st_ino}"

    def close(self) -> None:
        """Close the file."""
        with self._turn:
            self._db.close()

    # --- operations ---

    def take_in(self, key: str, asked: Mapping[str, Any], args: Mapping[str, Any], *, secret: bool) -> None:
        """Keep an operation that was asked for, before anything of it is done."""
        with self._turn, self._transaction():
            self._db.execute(
                "INSERT INTO operation (key, number, changed, run, fence, verb, subject, args, pace, secret,"
                " status, accepted_at) VALUES (?, (SELECT COALESCE(MAX(number), 0) + 1 FROM operation), ?,"
                " ?, ?, ?, ?, ?, ?, ?, 'running', ?)",
                (
                    key, self._next(), asked["run"], asked["fence"], asked["verb"], asked["subject"],
                    json.dumps(args), asked.get("pace", 1.0), secret, time.time(),
                ),
            )  # fmt: skip

    def operation(self, key: str) -> Kept | None:
        """The operation of a key, or None."""
        return next(iter(self._read("WHERE key=?", key)), None)

    def unsettled(self) -> list[Kept]:
        """Operations that are under way, in the order in which they were asked for."""
        return self._read("WHERE settled_at IS NULL ORDER BY number")

    def changes(self, after: int) -> tuple[list[Kept], int]:
        """Operations that changed behind a cursor, and the cursor that follows."""
        with self._turn:
            last = int(self._about("changed", "0"))
            if after < 0:
                return [], last
            return self._read("WHERE changed > ? ORDER BY changed", after), last

    def settle(
        self,
        key: str,
        status: str,
        *,
        result: Mapping[str, Any] | None = None,
        code: str = "",
        reason: str = "",
        effect: Mapping[str, Any] | None = None,
        notes: Mapping[str, Any] | None = None,
        before_s: float = 0.0,
    ) -> None:
        """How an operation ended, its effect in the journal, and what the platform noted: all or nothing."""
        now = time.time()
        with self._turn, self._transaction():
            self._db.execute(
                "UPDATE operation SET status=?, result=?, code=?, reason=?, settled_at=?, changed=?,"
                " before_s=? WHERE key=?",
                (status, json.dumps(result or {}), code, reason, now, self._next(), before_s, key),
            )
            if effect is not None:
                self._db.execute(
                    "INSERT INTO journal (at, key, fence, verb, subject, effect)"
                    " SELECT ?, key, fence, verb, subject, ? FROM operation WHERE key=?",
                    (now, json.dumps(effect), key),
                )
            for name, value in (notes or {}).items():
                if value is None:
                    self._db.execute("DELETE FROM note WHERE name=?", (name,))
                else:
                    self._db.execute("INSERT OR REPLACE INTO note VALUES (?, ?)", (name, json.dumps(value)))

    def forget_old(self) -> None:
        """Let keys go that were settled long ago."""
        with self._turn:
            self._db.execute("DELETE FROM operation WHERE settled_at < ?", (time.time() - KEPT_S,))

    def _read(self, where: str, *values: Any) -> list[Kept]:
        with self._turn:
            rows = self._db.execute(f"SELECT {_COLUMNS} FROM operation {where}", values).fetchall()
        found = []
        for row in rows:
            one = dict(zip(Kept.__dataclass_fields__, row, strict=True))
            one |= {name: json.loads(one[name]) for name in ("args", "result")}
            found.append(Kept(**{**one, "secret": bool(one["secret"])}))
        return found

    # --- fences, the journal, landings, notes ---

    def raise_fence(self, run: str, fence: int) -> int:
        """The highest fence that was seen for a run, this one among them."""
        return self._raise("fence", "run", "fence", run, fence)

    def raise_reign(self, installation: str, reign: int) -> int:
        """The highest reign that was seen of an installation, this one among them."""
        return self._raise("reign", "installation", "reign", installation, reign)

    def _raise(self, table: str, name: str, value: str, of: str, seen: int) -> int:
        with self._turn, self._transaction():
            self._db.execute(
                f"INSERT INTO {table} VALUES (?, ?)"
                f" ON CONFLICT ({name}) DO UPDATE SET {value}=MAX({value}, excluded.{value})",
                (of, seen),
            )
            found = self._db.execute(f"SELECT {value} FROM {table} WHERE {name}=?", (of,))
            return int(found.fetchone()[0])

    def journal(self, after: int) -> list[dict[str, Any]]:
        """Effects behind a number, in order."""
        names = ("seq", "at", "key", "fence", "verb", "subject", "effect")
        with self._turn:
            rows = self._db.execute(
                f"SELECT {', '.join(names)} FROM journal WHERE seq > ? ORDER BY seq", (after,)
            ).fetchall()
        return [{**dict(zip(names, row, strict=True)), "effect": json.loads(row[-1])} for row in rows]

    def hold(self, landings: Mapping[str, Mapping[str, Any]], gone: tuple[str, ...] = ()) -> list[str]:
        """Keep landings by workload and let others go; the workloads of which something changed."""
        with self._turn, self._transaction():
            before = self.held()
            changed = [name for name, landing in landings.items() if before.get(name) != landing]
            changed += [name for name in gone if name in before]
            for name, landing in landings.items():
                self._db.execute("INSERT OR REPLACE INTO held VALUES (?, ?)", (name, json.dumps(landing)))
            for name in gone:
                self._db.execute("DELETE FROM held WHERE workload=?", (name,))
            if changed:
                self._set("held", str(int(self._about("held", "0")) + 1))
        return changed

    def held(self) -> dict[str, dict[str, Any]]:
        """Landings that are held, by workload."""
        with self._turn:
            return {
                name: json.loads(text) for name, text in self._db.execute("SELECT * FROM held ORDER BY 1")
            }

    def held_mark(self) -> str:
        """A text that changes with the held landings."""
        with self._turn:
            return self._about("held", "0")

    def note(self, name: str) -> Any:
        """What the platform noted under a name, or None."""
        with self._turn:
            row = self._db.execute("SELECT value FROM note WHERE name=?", (name,)).fetchone()
        return None if row is None else json.loads(row[0])

    def notes(self, prefix: str) -> dict[str, Any]:
        """What the platform noted under names that begin so, by the rest of the name."""
        with self._turn:
            rows = self._db.execute("SELECT name, value FROM note ORDER BY name").fetchall()
        return {name[len(prefix) :]: json.loads(value) for name, value in rows if name.startswith(prefix)}

    # --- within ---

    def _transaction(self) -> sqlite3.Connection:
        if not self._db.in_transaction:
            self._db.execute("BEGIN IMMEDIATE")
        return self._db

    def _about(self, name: str, otherwise: str) -> str:
        row = self._db.execute("SELECT value FROM about WHERE name=?", (name,)).fetchone()
        return otherwise if row is None else str(row[0])

    def _set(self, name: str, value: str) -> None:
        self._db.execute("INSERT OR REPLACE INTO about VALUES (?, ?)", (name, value))

    def _next(self) -> int:
        """The next position in the feed; for good, also where its operation is forgotten later."""
        number = int(self._about("changed", "0")) + 1
        self._set("changed", str(number))
        return number
