"""Telling the other processes that records were changed, once they are."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from django.db import transaction

from maestoso.engine import bell
from maestoso.server.config.options import bells
from maestoso.server.config.settings import OPTIONS

BELLS = bells(OPTIONS.var)
log = logging.getLogger("maestoso.news")


def announce() -> None:
    """Ring once the present transaction is committed; at once where there is none."""
    transaction.on_commit(ring)


def ring(*, others: bool = False) -> None:
    """Ring for every process of this machine, or all but this one."""
    bell.ring(BELLS, others=others)


@contextmanager
def hearing(heard: Callable[[], None]) -> Iterator[None]:
    """Call ``heard`` in the running event loop when something was announced.

    Where that cannot be, as on a full disk, who listens is left to look once in a while.
    """
    try:
        own = bell.Bell(BELLS, heard)
    except OSError as error:
        log.warning("News cannot be heard (%s); it is looked for every second.", error)
        yield
        return
    try:
        yield
    finally:
        own.close()
