"""Whether this Maestoso holds its lease, where it has a witness: without it sites are asked for nothing.

The keeper renews it (:mod:`maestoso.server.witness.services`). What it is good for is reckoned from before
the witness was asked and ends earlier than there, so two machines never believe at once that they hold it.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import timedelta

from django.db.models import DurationField, ExpressionWrapper, F
from django.db.models.functions import Now

from maestoso.core.ports import SiteBusy
from maestoso.server.config.settings import OPTIONS
from maestoso.server.reign.models import Reign

FOR_S = float(OPTIONS.witness_lease_s)
EARLIER_S = FOR_S / 6
"""So much earlier it is taken for over here: clocks differ, and what was asked for last must arrive."""
LOOK_AGAIN_S = 2.0
LONGEST_TROUBLE = 400

_sure_until = 0.0
"""On the monotonic clock of this process: until then nobody needs to look."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """The site that is the witness, why it does not renew the lease, why sites are asked for nothing; each
    is empty where there is none."""

    witness: str
    trouble: str
    withheld: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Renewal:
    """What is asked for next: the site that is the witness, our reign, and the number of the renewal."""

    witness: str
    reign: int
    renewals: int


def is_sure() -> bool:
    """Whether it is known without a look that sites may be asked."""
    return time.monotonic() < _sure_until


def check() -> None:
    """Raises SiteBusy while sites may be asked for nothing."""
    why = "" if is_sure() else withheld()
    if why:
        raise SiteBusy(LOOK_AGAIN_S, why)


def withheld() -> str:
    """Why sites are asked for nothing now, in a sentence; empty while they are, and without a witness."""
    return standing().withheld


def standing() -> Standing:
    """How it stands, as the records say."""
    global _sure_until
    looked_at = time.monotonic()
    row = (
        Reign.objects.filter(pk=1)
        .annotate(left=ExpressionWrapper(F("held_until") - Now(), output_field=DurationField()))
        .values_list("witness", "witness_trouble", "left")
        .first()
    )
    witness, trouble, left = row or ("", "", None)
    if not witness:
        _sure_until = looked_at + LOOK_AGAIN_S
        return Standing(witness="", trouble="", withheld="")
    if left is not None and left > timedelta(0):
        _sure_until = looked_at + left.total_seconds()
        return Standing(witness=witness, trouble=trouble, withheld="")
    said = f"Maestoso asks for nothing while it does not hold its lease at the witness {witness}."
    return Standing(witness=witness, trouble=trouble, withheld=f"{said} {trouble}".strip())


def next_renewal() -> Renewal | None:
    """Count the next renewal, durable before it is asked for; None without a witness."""
    if not Reign.objects.filter(pk=1).exclude(witness="").update(renewals=F("renewals") + 1):
        return None
    row = Reign.objects.get(pk=1)
    return Renewal(witness=row.witness, reign=row.number, renewals=row.renewals)


def renewed(took_s: float) -> None:
    """The witness has said so, ``took_s`` after it was asked."""
    good_for = timedelta(seconds=FOR_S - EARLIER_S - took_s)
    Reign.objects.filter(pk=1).update(held_until=Now() + good_for, witness_trouble="")


def not_renewed(why: str) -> None:
    """It was not; what is held is held until it is over."""
    Reign.objects.filter(pk=1).update(witness_trouble=why[:LONGEST_TROUBLE])


def choose(witness: str, renewals: int, took_s: float) -> None:
    """From now on this site is the witness, which has given the lease; none for an empty text."""
    global _sure_until
    if witness:
        Reign.objects.filter(pk=1).update(witness=witness, renewals=renewals)
        renewed(took_s)
    else:
        Reign.objects.filter(pk=1).update(witness="", held_until=None, witness_trouble="")
    _sure_until = 0.0
