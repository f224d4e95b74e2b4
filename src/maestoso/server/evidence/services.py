"""What can be done with evidence: one function a verb."""

from __future__ import annotations

import hashlib
import logging
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import Max

from maestoso.core.errors import BadValue, DomainError, LogCorrupt, NotFound, Refused
from maestoso.core.evidence.chain import first_broken
from maestoso.core.evidence.seal import ADDITION, signed
from maestoso.core.ports import Clock
from maestoso.server.audit.record import recorded
from maestoso.server.common.seal_keys import current_key
from maestoso.server.evidence.models import Addition, Seal
from maestoso.server.evidence.register import set_stone
from maestoso.server.evidence.sealing import seal_run
from maestoso.server.organisation.services import organisation
from maestoso.server.runs.events import run_name, to_event
from maestoso.server.runs.models import Run, RunEvent, RunStep
from maestoso.server.runs.services import find_run

log = logging.getLogger("maestoso.evidence")
LARGEST_FILE = 10 * 2**20
MOST_ADDITIONS = 50
LONGEST_NOTE = 8000


def add_note(pk: int, text: str, *, by: str, at: datetime) -> Addition:
    """Add a note to a run that has ended. Raises BadValue, Refused."""
    if not text.strip() or len(text) > LONGEST_NOTE:
        raise BadValue(
            "The note is empty, or longer than can be kept.", f"Write 1 to {LONGEST_NOTE} characters.",
            field="body.text",
        )  # fmt: skip
    return _add(pk, by=by, at=at, text=text.strip())


def add_file(pk: int, name: str, media_type: str, body: bytes, *, by: str, at: datetime) -> Addition:
    """Keep a file beside a run that has ended. Raises BadValue, Refused."""
    plain = name.replace("\\", "/").rsplit("/", 1)[-1].strip()
    if not plain or len(plain) > 200 or not plain.isprintable():
        raise BadValue(f"{name[:40]!r} is no name for a file.", "Name it, with its ending.", field="name")
    if not body or len(body) > LARGEST_FILE:
        raise BadValue(
            f"{plain} is {'empty' if not body else 'larger than ' + str(LARGEST_FILE // 2**20) + ' MiB'}.",
            "Add a smaller file, or a note that says where it is kept.",
            field="body",
        )
    kind = media_type if len(media_type) <= 100 and media_type.isprintable() else ""
    return _add(
        pk, by=by, at=at, name=plain, media_type=kind or "application/octet-stream", size=len(body),
        sha256=hashlib.sha256(body).hexdigest(), body=body,
    )  # fmt: skip


@recorded()
def _add(pk: int, *, by: str, at: datetime, **content: Any) -> Addition:
    run = Run.objects.select_for_update().filter(pk=find_run(pk).pk).get()
    if not run.outcome:
        raise Refused(
            f"Run {pk} is still under way.", "Say it with the verdict, or add it when the run has ended."
        )
    last = run.additions.aggregate(last=Max("number"))["last"] or 0
    if last >= MOST_ADDITIONS:
        raise Refused(f"Run {pk} has {MOST_ADDITIONS} additions already.", "Keep more of them elsewhere.")
    row = Addition(run=run, number=last + 1, by=by, at=at, **content)
    row.token = signed(addition_statement(row, run), current_key())
    row.save()
    return row


def addition_statement(row: Addition, run: Run) -> dict[str, Any]:
    """What is signed of an addition: it belongs to this run, as it was sealed."""
    return {
        "format": ADDITION, "run": run_name(run.pk), "head": run.chain_head, "number": row.number,
        "by": row.by, "at": row.at, "text": row.text, "name": row.name, "media_type": row.media_type,
        "size": row.size, "sha256": row.sha256,
    }  # fmt: skip


def find_file(pk: int, number: int) -> Addition:
    """An added file. Raises NotFound."""
    row = Addition.objects.filter(run_id=pk, number=number).exclude(name="").first()
    if row is None:
        raise NotFound(f"Run {pk} has no file {number}.", "See what was added to it.")
    return row


@recorded()
def hold_for_law(pk: int, reason: str) -> None:
    """Keep a run beyond its time, or (without a reason) no longer."""
    if len(reason) > 400:
        raise BadValue("The reason is too long.", "Give up to 400 characters.", field="body.reason")
    run = find_run(pk)
    run.legal_hold = reason.strip()
    run.save(update_fields=["legal_hold"])


def seal_what_is_not(clock: Clock) -> None:
    """Seal runs that have ended since, or while the key could not be read."""
    for run in Run.objects.exclude(outcome="").filter(seal=None, removed_at=None):
        try:
            seal_ended(run, clock.now())
        except DomainError as error:
            log.warning("%s", error.sentence)


@recorded()
def seal_ended(run: Run, at: datetime) -> None:
    """Seal a run that has ended, once.

    Raises LogCorrupt where rows do not follow from each other: what was touched must not be sealed.
    """
    locked = Run.objects.select_for_update().get(pk=run.pk)
    if Seal.objects.filter(run=run).exists():
        return
    rows = list(RunEvent.objects.filter(run=run).order_by("seq"))
    events = [to_event(row) for row in rows]
    touched = first_broken(zip(events, (row.chain for row in rows), strict=True))
    if touched is None and (not rows or rows[-1].chain != locked.chain_head):
        touched = len(rows)
    if touched is not None:
        raise LogCorrupt(
            f"Run {run.pk} cannot be sealed: its chain is broken at event {touched}.",
            "Restore its log from a backup.",
        )
    seal_run(locked, run_name(run.pk), events, at)


def remove_expired(clock: Clock) -> None:
    """Let runs go whose time is over and that nobody holds. Their line and their seal stay."""
    keep = organisation().keep_days
    if not keep:
        return
    now = clock.now()
    over = Run.objects.filter(ended_at__lt=now - timedelta(days=keep), legal_hold="", removed_at=None)
    for run in over.exclude(outcome="").exclude(seal=None):
        with transaction.atomic():
            locked = Run.objects.select_for_update().get(pk=run.pk)
            if not locked.legal_hold:
                locked.additions.all().delete()
                RunStep.objects.filter(run=locked).delete()
                RunEvent.objects.filter(run=locked).delete()
                set_stone(locked, now)
                locked.notes, locked.removed_at = "", now
                locked.save(update_fields=["notes", "removed_at"])
