"""Sealing finished runs, and checking what was sealed."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from datetime import datetime

from maestoso.core.codec import from_data
from maestoso.core.evidence.chain import written
from maestoso.core.evidence.evidence_file import Verification, evidence_file, verify
from maestoso.core.evidence.seal import RunSeal, opened, seal_of, signed
from maestoso.core.runs.events import Event
from maestoso.server.audit.record import note_seal
from maestoso.server.common.seal_keys import current_key, public_keys
from maestoso.server.evidence.models import Seal
from maestoso.server.runs.models import Run

log = logging.getLogger("maestoso.evidence")


def seal_run(run: Run, name: str, events: Sequence[Event], at: datetime) -> None:
    """Seal a run that has its outcome, in the caller's transaction.

    A key that cannot be read is said in the log of the process; the keeper tries again.
    """
    try:
        key = current_key()
    except OSError:
        log.exception("Run %s could not be sealed; it is tried again", run.pk)
        return
    head = note_seal(run.pk, run.chain_head, len(events), at)
    made = seal_of(name, run.pk, events, (head.number, head.chain))
    found = made.facts
    Seal.objects.create(
        run=run, token=signed(made, key), key=key.thumbprint(), sealed_at=at,
        rto_s=found.rto_s, rpo_s=found.worst_rpo_s, people_s=found.people_s,
        machine_s=found.machine_s, failures=found.failures,
    )  # fmt: skip


def as_file(seal: Seal, events: Sequence[Event]) -> str:
    """The evidence of a run as a file that anybody can check."""
    return evidence_file(seal.token, public_keys()[seal.key], [written(event) for event in events])


def check(seal: Seal, events: Sequence[Event]) -> Verification:
    """Whether what the database holds of a run is what was sealed."""
    found = verify(as_file(seal, events), public_keys())
    # A seal of another run holds by itself; here it stands in a wrong place.
    if found.holds and found.seal is not None and found.seal.number != seal.run_id:
        return Verification(
            holds=False, sentence=f"This is the seal of run {found.seal.number}, not of run {seal.run_id}."
        )
    return found


def read_seal(seal: Seal) -> RunSeal:
    """What the token of a seal says. Raises SealBroken."""
    return from_data(RunSeal, opened(seal.token, public_keys()[seal.key]), at="seal")
