"""One thread for each site and one for the records, so that a slow site delays nobody else."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from functools import partial

from django.db import close_old_connections, connection

from maestoso.core.ports import Clock
from maestoso.server.estate.models import Site
from maestoso.server.keeper.leases import LEASE_S, release, take
from maestoso.server.keeper.looks import RECORD_LOOKS, SITE_LOOKS

EVERY_S = 3.0
RENEW_S = LEASE_S / 4
RECORDS = "records"
log = logging.getLogger("maestoso.keeper")
Look = Callable[[], None]


def keep(stop: threading.Event, clock: Clock, owner: str) -> None:
    """Go on until ``stop``; ``owner`` names this process, as in the leases of runs."""
    there: dict[str, threading.Thread] = {}
    looks: Callable[[], Sequence[Look]]
    while not stop.is_set():
        try:
            close_old_connections()
            codes = list(Site.objects.values_list("code", flat=True))
        except Exception:
            log.exception("Which sites there are cannot be read; it is tried again")
            codes = []
        for duty in [RECORDS, *codes]:
            if duty not in there or not there[duty].is_alive():
                looks = partial(_of_records, clock) if duty == RECORDS else partial(_of_site, duty, clock)
                there[duty] = threading.Thread(
                    target=look_after, args=(duty, looks, stop, owner), name=f"keeper-{duty}", daemon=True
                )
                there[duty].start()
        stop.wait(EVERY_S)
    _quietly(RECORDS, partial(release, owner))


def look_after(duty: str, looks: Callable[[], Sequence[Look]], stop: threading.Event, owner: str) -> None:
    """One duty, look by look, while its lease is held here. ``looks`` gives none for a site that is gone."""
    found: Sequence[Look] = ()
    renew_at = 0.0

    def begin() -> None:
        nonlocal found, renew_at
        # Not known to be held is not held.
        found = ()
        if time.monotonic() >= renew_at:
            if not take(duty, owner):
                return
            renew_at = time.monotonic() + RENEW_S
        found = looks()
        if not found:
            raise _Gone

    while not stop.wait(EVERY_S):
        try:
            _quietly(duty, begin)
        except _Gone:
            break
        for look in found:
            _quietly(duty, look)
    connection.close()


class _Gone(BaseException):
    """There is nothing to look after any more."""


def _of_records(clock: Clock) -> Sequence[Look]:
    return [partial(look, clock) for look in RECORD_LOOKS]


def _of_site(code: str, clock: Clock) -> Sequence[Look]:
    site = Site.objects.filter(code=code).first()
    return [partial(look, site, clock) for look in SITE_LOOKS] if site is not None else ()


def _quietly(duty: str, look: Look) -> None:
    try:
        close_old_connections()
        look()
    except Exception:
        log.exception("Looking after %s failed; it is tried again", duty)
