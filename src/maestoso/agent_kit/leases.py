"""Leases: who conducts for an installation, as a third place remembers it that neither of two machines is at.

The primary renews its lease all the time. Its standby may take it once it is over, and only with records in
which the last renewal stands, or the one before: so it never goes on from old ones. Two that ask at once do
not both get it.
"""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any

from .web import Refused

LONGEST_S = 3600.0

TABLE = """
CREATE TABLE IF NOT EXISTS lease (
  installation TEXT PRIMARY KEY, reign INTEGER NOT NULL, renewals INTEGER NOT NULL, holder TEXT NOT NULL,
  promised INTEGER NOT NULL, until REAL NOT NULL, free_at REAL NOT NULL);
"""


@dataclass(frozen=True, slots=True, kw_only=True)
class Lease:
    """Who holds it, under which reign and until when (seconds since 1970).

    ``renewals`` counts those that whoever conducts has written down; ``promised``: it was given to somebody
    who takes over, and does not conduct yet. Until ``free_at`` the one before may believe that it is its own.
    """

    reign: int
    renewals: int
    holder: str
    promised: bool
    until: float
    free_at: float = 0.0

    def said(self, now: float) -> dict[str, Any]:
        """As the protocol says it."""
        return {"reign": self.reign, "renewals": self.renewals, "left_s": round(self.until - now, 3)}


def given(kept: Lease | None, asked: Mapping[str, Any], now: float) -> tuple[Lease | None, Refused | None]:
    """The lease as it is kept from now on, and why it was not given (docs/site-protocol.md, Leases)."""
    if not 0 < asked["for_s"] <= LONGEST_S:
        said = f"for_s is {asked['for_s']}; give seconds, {LONGEST_S:.0f} at most."
        return kept, Refused(400, "bad-value", said)
    made = Lease(
        reign=asked["reign"], renewals=asked["renewals"], holder=asked["holder"], promised=asked["if_over"],
        until=now + asked["for_s"],
    )  # fmt: skip
    return _promised(kept, made, now) if asked["if_over"] else _renewed(kept, made, now)


def _renewed(kept: Lease | None, made: Lease, now: float) -> tuple[Lease | None, Refused | None]:
    """To somebody who conducts."""
    if kept is None:
        return made, None
    if made.reign < kept.reign:
        if not kept.promised:
            return kept, _past(kept)
        return (kept, _held(kept, now)) if kept.until > now else (made, None)
    if made.reign > kept.reign and not kept.promised and kept.until > now:
        # It took over without waiting: the one before may not renew any more, and holds it to the end.
        next_one = replace(made, until=kept.until, free_at=kept.until)
        return next_one, _held(next_one, now)
    return (kept, _held(kept, now)) if kept.free_at > now else (made, None)


def _promised(kept: Lease | None, made: Lease, now: float) -> tuple[Lease | None, Refused | None]:
    """To somebody who wants to take over."""
    if kept is None:
        return kept, Refused(409, "no-lease", "Nobody has held a lease here, so none can be over.")
    own = kept.promised and kept.holder == made.holder
    if kept.until > now and not own:
        return kept, _held(kept, now)
    if made.reign < kept.reign or (made.reign == kept.reign and not own):
        return kept, _past(kept)
    if made.renewals < kept.renewals - 1:
        said = f"The lease was renewed {kept.renewals} times; the records of whoever asks know of "
        said += f"{made.renewals}, so something is missing there."
        return kept, Refused(409, "records-behind", said)
    return replace(made, renewals=kept.renewals), None


def _held(kept: Lease, now: float) -> Refused:
    whose = "was promised to whoever takes over" if kept.promised else "is held by whoever conducts"
    left_s = kept.until - now
    return Refused(409, "lease-held", f"The lease {whose}, for another {left_s:.0f} s.")


def _past(kept: Lease) -> Refused:
    return Refused(409, "reign-past", f"Reign {kept.reign} holds the lease here; a lower one is past.")


_COLUMNS = ", ".join(Lease.__dataclass_fields__)


class Leases:
    """They are kept in a database that its owner has opened, and ``turn`` is its lock."""

    def __init__(self, db: sqlite3.Connection, turn: threading.RLock) -> None:
        self._db, self._turn = db, turn
        db.executescript(TABLE)

    def give(self, installation: str, asked: Mapping[str, Any]) -> dict[str, Any]:
        """Give or renew one, durable before it is said. Raises Refused."""
        with self._turn:
            now = time.time()
            row = self._db.execute(
                f"SELECT {_COLUMNS} FROM lease WHERE installation=?", (installation,)
            ).fetchone()
            kept = None
            if row is not None:
                named = dict(zip(Lease.__dataclass_fields__, row, strict=True))
                kept = Lease(**{**named, "promised": bool(named["promised"])})
            lease, refusal = given(kept, asked, now)
            if lease is not None and lease is not kept:
                self._db.execute(
                    f"INSERT OR REPLACE INTO lease (installation, {_COLUMNS}) VALUES (?, ?, ?, ?, ?, ?, ?)",
                    (installation, *asdict(lease).values()),
                )
            if refusal is not None or lease is None:
                raise refusal or AssertionError("a lease is given or refused")
            return lease.said(now)
