"""Whether the records are what was written: sentences about everything that is not.

What is signed can be made by nobody who has the database alone; what is chained or numbered shows where
something was taken away or put in.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.evidence.seal import SealBroken, key_named_in, opened
from maestoso.server.audit.models import AuditEntry, AuditSeal
from maestoso.server.audit.record import SEALED
from maestoso.server.audit.trail import first_touched, head_statement
from maestoso.server.common.seal_keys import public_keys
from maestoso.server.evidence.models import Addition, RunRegister, Seal, Stone
from maestoso.server.evidence.register import mark_beside_the_keys, register_statement, removal_statement
from maestoso.server.evidence.sealing import check, read_seal
from maestoso.server.evidence.services import addition_statement
from maestoso.server.runs.events import read_log
from maestoso.server.runs.models import Run
from maestoso.server.runs.projection import check_projection


def run_troubles(run: Run) -> Iterator[str]:
    """What is not as it should be with one run."""
    seal = Seal.objects.filter(run=run).first()
    if run.removed_at is not None:
        yield from _let_go(run, seal)
        return
    yield from check_projection(run)
    if seal is not None:
        found = check(seal, read_log(run.pk))
        if not found.holds:
            yield found.sentence
        yield from _in_the_trail(run, seal)
    for row in Addition.objects.filter(run=run).order_by("number"):
        yield from _addition(run, row)


def _let_go(run: Run, seal: Seal | None) -> Iterator[str]:
    stone = Stone.objects.filter(run=run).first()
    if (
        stone is None
        or run.removed_at != stone.at
        or not _says(stone.token, removal_statement(run, stone.at))
    ):
        yield "It is marked as deleted, and nothing that was signed says so."
    if seal is None or not _is_of(seal, run):
        yield "Its log was deleted, and so was its seal."


def _is_of(seal: Seal, run: Run) -> bool:
    try:
        said = read_seal(seal)
    except (SealBroken, KeyError):
        return False
    return (said.number, said.head) == (run.pk, run.chain_head)


def _in_the_trail(run: Run, seal: Seal) -> Iterator[str]:
    """A seal names the entry of the audit trail that names it; one from before release 0.8 does not."""
    try:
        said = read_seal(seal)
    except (SealBroken, KeyError):
        return  # said already
    entries = list(AuditEntry.objects.filter(did=f"{SEALED} {run.pk}").values_list("number", "chain", "sent"))
    wanted = [(said.audit_entries, said.audit_head, said.head)] if said.audit_entries else []
    if [(number, chain, sent.get("head")) for number, chain, sent in entries] != wanted:
        yield "Its seal and the audit trail do not name each other: one of them was made anew."


def _addition(run: Run, row: Addition) -> Iterator[str]:
    what = f"File {row.number}" if row.name else f"Note {row.number}"
    if not _says(row.token, addition_statement(row, run)):
        yield f"{what} is not what somebody added."
    elif row.name and hashlib.sha256(bytes(row.body or b"")).hexdigest() != row.sha256:
        yield f"{what} has another content than the one that was added."


def register_troubles() -> Iterator[str]:
    """Runs that were taken away or put in."""
    row = RunRegister.objects.first()
    known = set(Run.objects.values_list("pk", flat=True))
    if row is None:
        if known or mark_beside_the_keys():
            yield "There is no register of runs, so nobody can say whether one was taken away."
        return
    if not _says(row.token, register_statement(row)):
        yield "The register of runs is not what was signed."
        return
    if row.mark != mark_beside_the_keys():
        yield "The register of runs was begun anew; nobody can say whether one was taken away before."
    counted = set(range(1, row.count + 1)) - set(row.missing)
    for number in sorted(counted - known):
        yield f"Run {number} was taken away: {row.count} were started, and it is not there."
    for number in sorted(known - counted):
        yield f"Run {number} was put in: the register does not know of it."


def trail_troubles() -> Iterator[str]:
    """Entries of the audit trail that were changed or taken away."""
    touched = first_touched()
    if touched is not None:
        yield f"The audit trail is not what was written, from entry {touched} on."
    signed = AuditEntry.objects.filter(number__in=AuditSeal.objects.values("number"))
    chains = dict(signed.values_list("number", "chain"))
    for index, row in enumerate(AuditSeal.objects.order_by("index"), start=1):
        if row.index != index:
            yield f"The signed head {index} of the audit trail was taken away."
            return
        if not _says(row.token, head_statement(row)):
            yield f"The signed head {index} of the audit trail is not what was signed."
        elif chains.get(row.number) != row.chain:
            yield f"Entry {row.number} of the audit trail was signed, and is not there as it was."


def _says(token: str, wanted: dict[str, Any]) -> bool:
    """Whether a token was signed by a key of ours and says just this."""
    try:
        return bool(opened(token, public_keys()[key_named_in(token)]) == to_data(wanted))
    except (SealBroken, KeyError):
        return False
