"""Telling the other processes that records were changed, once they are."""

from __future__ import annotations

from django.db import transaction

from maestoso.engine import bell
from maestoso.server.config.options import bells
from maestoso.server.config.settings import OPTIONS

BELLS = bells(OPTIONS.var)


def announce() -> None:
    """Ring once the present transaction is committed; at once where there is none."""
    transaction.on_commit(ring)


def ring(*, others: bool = False) -> None:
    """Ring for every process of this machine, or all but this one."""
    bell.ring(BELLS, others=others)
