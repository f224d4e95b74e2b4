"""Telling the other processes that records were changed, once they are."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress

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


class NewsWaiter:
    """For a thread that waits until something was announced; where that cannot be heard, for its time."""

    def __init__(self) -> None:
        self._ear: bell.Ear | None = None

    def wait(self, most_s: float) -> None:
        """Until the next news, at most so long."""
        if self._ear is None:
            with suppress(OSError):
                self._ear = bell.Ear(BELLS)
        if self._ear is None:
            time.sleep(most_s)
        else:
            self._ear.wait(most_s)
