"""How many runs there were: they are numbered without gaps, and the count is signed."""

from __future__ import annotations

import logging
import secrets
from datetime import UTC, datetime
from typing import Any

from django.db import transaction

from maestoso.core.evidence.seal import signed
from maestoso.server.common import seal_keys
from maestoso.server.evidence.models import RunRegister, Stone
from maestoso.server.runs.models import Run

log = logging.getLogger("maestoso.evidence")
REGISTER = "maestoso-run-register/1"
STONE = "maestoso-run-let-go/1"


def next_number() -> int:
    """The number of a new run, in the caller's transaction: a start that is refused gives it back."""
    row = _row()
    row.count += 1
    _sign(row)
    return row.count


@transaction.atomic
def begin_counting(at: datetime) -> None:
    """Count what is there, once; a release without a register may have left gaps and runs without a stone."""
    if RunRegister.objects.exists():
        return
    _row()
    for run in Run.objects.exclude(removed_at=None).filter(stone=None):
        set_stone(run, run.removed_at or at)


def register_statement(row: RunRegister) -> dict[str, Any]:
    """What is signed of the register."""
    return {"format": REGISTER, "mark": row.mark, "count": row.count, "missing": row.missing}


def mark_beside_the_keys() -> str:
    """The mark of the first register of this installation; empty before there was one."""
    file = seal_keys.FOLDER / "register"
    return file.read_text(encoding="ascii").strip() if file.is_file() else ""


def set_stone(run: Run, at: datetime) -> None:
    """Sign that the log of a run was let go on purpose, in the caller's transaction."""
    key = seal_keys.current_key()
    Stone.objects.create(run=run, at=at, key=key.thumbprint(), token=signed(removal_statement(run, at), key))


def removal_statement(run: Run, at: datetime) -> dict[str, Any]:
    """What is signed of a run that was let go."""
    return {
        "format": STONE,
        "number": run.pk,
        "plan": run.plan_code,
        "head": run.chain_head,
        "at": at.astimezone(UTC).isoformat(),
    }


def _row() -> RunRegister:
    row = RunRegister.objects.select_for_update().first()
    if row is not None:
        return row
    known = set(Run.objects.values_list("pk", flat=True))
    count = max(known, default=0)
    row = RunRegister(
        pk=1, mark=secrets.token_hex(16), count=count, missing=sorted(set(range(1, count + 1)) - known)
    )
    try:
        if not mark_beside_the_keys():
            seal_keys.FOLDER.mkdir(mode=0o700, parents=True, exist_ok=True)
            (seal_keys.FOLDER / "register").write_text(row.mark, encoding="ascii")
    except OSError:
        log.exception("The mark of the register of runs could not be written")
    _sign(row)
    return row


def _sign(row: RunRegister) -> None:
    """A key that cannot be read must not keep a run from starting: then the next one signs for both."""
    try:
        key = seal_keys.current_key()
        row.key, row.token = key.thumbprint(), signed(register_statement(row), key)
    except OSError:
        log.exception("The register of runs could not be signed; the next start tries again")
    row.save()
