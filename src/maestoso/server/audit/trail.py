"""Reading the audit trail: filtered, exported, checked."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import islice
from typing import Any

from django.db.models import Q, QuerySet
from rest_framework.request import Request

from maestoso.core.errors import BadValue
from maestoso.core.evidence.chain import ROOT, link_text
from maestoso.core.evidence.seal import signed
from maestoso.core.ports import Clock
from maestoso.server.audit.anchor import HEAD, Anchored, anchor_newest, anchored, first_missing
from maestoso.server.audit.models import AuditEntry, AuditHead, AuditSeal
from maestoso.server.audit.record import written
from maestoso.server.audit.words import SIGN_INS
from maestoso.server.common.days import day
from maestoso.server.common.paging import page_of
from maestoso.server.common.seal_keys import current_key
from maestoso.server.common.words import holding

PART = 500
_REFUSED, _SIGN_IN, _TAKEN = Q(did__contains="(refused: "), Q(path__in=SIGN_INS), Q(method="GET")
KINDS = {
    "changes": ~_REFUSED & ~_SIGN_IN & ~_TAKEN,
    "sign-ins": _SIGN_IN,
    "refusals": _REFUSED,
    "downloads": _TAKEN & ~_REFUSED,
}
"""What entries are about; sign-ins would bury the changes."""
SIGNED_EVERY = timedelta(minutes=10)


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditLine:
    """One change. ``sent`` and ``changed`` are JSON; secrets in them are not shown."""

    number: int
    at: datetime
    by: str
    address: str
    method: str
    path: str
    did: str
    sent: str
    changed: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditPage:
    """Newest first. ``next`` is the cursor of what came before.

    ``touched`` is the first entry that is not as it was written (None: all are). ``anchored`` is how the file
    stands in which heads are kept outside the database, where one is set.
    """

    lines: tuple[AuditLine, ...]
    next: str | None
    total: int
    people: tuple[str, ...]
    touched: int | None
    anchored: Anchored | None


def find_entries(asked: Mapping[str, str]) -> QuerySet[AuditEntry]:
    """Entries that fit. Raises BadValue."""
    rows = AuditEntry.objects.all()
    if asked.get("by"):
        rows = rows.filter(by=asked["by"])
    if asked.get("since"):
        rows = rows.filter(at__gte=day(asked["since"], "since"))
    kind = asked.get("kind", "")
    if kind and kind not in KINDS:
        raise BadValue(f"kind is {kind[:20]!r}.", f"Use one of: {', '.join(KINDS)}.", field="kind")
    if kind:
        rows = rows.filter(KINDS[kind])
    return rows.filter(*holding(asked.get("find", ""), "path", "did", "by"))


def page(request: Request) -> AuditPage:
    """A page of the entries that fit what is asked for."""
    rows = find_entries(request.query_params)
    part, following = page_of(rows, request, "-number")
    return AuditPage(
        lines=tuple(map(_line, part)),
        next=following,
        total=rows.count(),
        people=tuple(
            AuditEntry.objects.exclude(by="").order_by("by").values_list("by", flat=True).distinct()
        ),
        touched=first_touched(),
        anchored=anchored(),
    )


def first_touched() -> int | None:
    """The first entry that does not follow from those before; None where the whole trail holds."""
    before, number = ROOT, 0
    for entry in AuditEntry.objects.order_by("number").iterator(500):
        number += 1
        if entry.number != number or link_text(before, _as_written(entry)) != entry.chain:
            return number
        before = entry.chain
    head = AuditHead.objects.filter(pk=1).first()
    if head is not None and (head.number, head.chain) != (number, before):
        return number + 1
    return first_missing()


def sign_head(clock: Clock) -> None:
    """Sign the head of the trail when it has grown, every ten minutes at most: the past stays provable."""
    head, last = AuditHead.objects.filter(pk=1).first(), AuditSeal.objects.last()
    now = clock.now()
    if head is None or (last is not None and (last.number == head.number or now - last.at < SIGNED_EVERY)):
        return
    key = current_key()
    row = AuditSeal(
        index=(last.index if last else 0) + 1,
        number=head.number,
        chain=head.chain,
        at=now,
        key=key.thumbprint(),
    )
    row.token = signed(head_statement(row), key)
    row.save()


def keep_head(clock: Clock) -> None:
    """Sign the head where it is time, and keep it outside the database where that is set."""
    sign_head(clock)
    anchor_newest()


def head_statement(row: AuditSeal) -> dict[str, Any]:
    """What is signed of the head of the trail."""
    return {
        "format": HEAD, "index": row.index, "entries": row.number, "head": row.chain,
        "at": row.at.astimezone(UTC).isoformat(),
    }  # fmt: skip


def exported(asked: Mapping[str, str]) -> Iterator[bytes]:
    """JSON lines, oldest first, each with its hash; the last is the signed head of the whole trail.

    In parts of some hundred lines. Raises BadValue before the first.
    """
    return _exported(find_entries(asked))


def _exported(rows: QuerySet[AuditEntry]) -> Iterator[bytes]:
    left = rows.order_by("number").iterator(PART)
    while part := list(islice(left, PART)):
        yield b"".join(map(_exported_line, part))
    head = AuditHead.objects.filter(pk=1).first()
    said = {
        "format": "maestoso-audit/1", "entries": head.number if head else 0,
        "head": head.chain if head else ROOT,
    }  # fmt: skip
    yield json.dumps({"seal": signed(said, current_key())}).encode() + b"\n"


def _exported_line(entry: AuditEntry) -> bytes:
    told = {"chain": entry.chain, "entry": json.loads(_as_written(entry))}
    return json.dumps(told, ensure_ascii=False).encode() + b"\n"


def _as_written(entry: AuditEntry) -> str:
    entry.at = entry.at.astimezone(UTC)
    return written(entry)


def _line(entry: AuditEntry) -> AuditLine:
    return AuditLine(
        number=entry.number, at=entry.at, by=entry.by, address=entry.address, method=entry.method,
        path=entry.path, did=entry.did, sent=_text(entry.sent), changed=_text(entry.changed),
    )  # fmt: skip


def _text(value: Any) -> str:
    return json.dumps(value, indent=1, ensure_ascii=False)
