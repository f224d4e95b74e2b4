"""The signed heads of the trail, kept in a file outside the database: so a trail whose end was cut off shows.

Whoever can change the database can take away the newest entries together with every head that names them. The
file is best on another machine, or where the database's owner cannot write.
"""

from __future__ import annotations

import json
import logging
import os
from base64 import urlsafe_b64decode
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from maestoso.core.evidence.seal import SealBroken, key_named_in, opened
from maestoso.server.audit.models import AuditEntry, AuditHead, AuditSeal
from maestoso.server.common.seal_keys import public_keys
from maestoso.server.config.settings import OPTIONS

log = logging.getLogger("maestoso.audit")
HEAD = "maestoso-audit-head/1"
LONGEST_LINE = 2000


@dataclass(frozen=True, slots=True, kw_only=True)
class Anchored:
    """How the file stands: how many entries the newest head in it counts, as of when; or what is wrong."""

    entries: int
    at: datetime | None
    problem: str


def anchor_newest() -> None:
    """Append the newest signed head where it is not there yet. What cannot be written is said in the log, and
    on the page of the trail; the next turn tries again."""
    newest = AuditSeal.objects.last()
    if not OPTIONS.audit_anchor or newest is None or _last_line() == newest.token:
        return
    try:
        with open(OPTIONS.audit_anchor, "a", encoding="ascii") as file:
            file.write(f"{newest.token}\n")
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        log.error("The head of the audit trail could not be written to its file: %s", error)


def anchored() -> Anchored | None:
    """How the file stands; None where none is set."""
    if not OPTIONS.audit_anchor:
        return None
    line = _last_line()
    said = _head(line) if line else None
    newest = AuditSeal.objects.last()
    problem = ""
    if line and said is None:
        problem = "its last line is no head that was signed here"
    elif newest is not None and line != newest.token:
        problem = "the newest head could not be written to it yet; the log of the keeper says why"
    return Anchored(
        entries=int(said["entries"]) if said else 0,
        at=datetime.fromisoformat(said["at"]) if said else None, problem=problem,
    )  # fmt: skip


def first_missing() -> int | None:
    """The first entry that a head in the file counts and that is not there as it was; None where all are."""
    head = AuditHead.objects.filter(pk=1).first()
    there = head.number if head is not None else 0
    heads = sorted(_read_heads())
    known = dict(
        AuditEntry.objects.filter(number__in=[number for number, _, _ in heads]).values_list(
            "number", "chain"
        )
    )
    for number, chain, token in heads:
        # Anybody may have added lines: a signature is looked at where one says otherwise than the records.
        if known.get(number) != chain and _head(token) is not None:
            return min(number, there + 1)
    return None


def _read_heads() -> Iterator[tuple[int, str, str]]:
    """Number and hash that every line of the file names, with the line; not looked at is who signed it."""
    try:
        with open(OPTIONS.audit_anchor, encoding="ascii", errors="replace") as file:
            for line in file:
                try:
                    said = json.loads(urlsafe_b64decode(line.split(".")[1] + "=="))
                    yield int(said["entries"]), str(said["head"]), line.strip()
                except (ValueError, LookupError, TypeError):
                    continue
    except OSError:
        return


def _head(token: str) -> dict[str, Any] | None:
    try:
        said: dict[str, Any] = opened(token, public_keys()[key_named_in(token)])
    except (SealBroken, KeyError):
        return None
    return said if str(said.get("format")) == HEAD else None


def _last_line() -> str:
    """Empty where there is no file, or nothing in it."""
    try:
        with open(OPTIONS.audit_anchor, "rb") as file:
            size = file.seek(0, os.SEEK_END)
            file.seek(max(0, size - LONGEST_LINE))
            lines = file.read().decode("ascii", "replace").split()
    except OSError:
        return ""
    return lines[-1] if lines else ""
