"""One thread for each site, for the records, the board, messages and names: nothing slow delays the rest."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from functools import partial

from django.db import close_old_connections, connection

from maestoso.core.ports import Clock
from maestoso.server.backups.services import back_up_when_due, copy_to_bucket
from maestoso.server.board.stored import refresh_board
from maestoso.server.common import news
from maestoso.server.estate.models import Site
from maestoso.server.keeper.leases import LEASE_S, release, take
from maestoso.server.keeper.tasks import RECORD_TASKS, SITE_TASKS
from maestoso.server.messages.deliver import deliver
from maestoso.server.messages.events import write_stream
from maestoso.server.messages.notice import notice
from maestoso.server.names.services import read_zones
from maestoso.server.reign.lease import FOR_S
from maestoso.server.witness.services import renew

EVERY_S = 6.0
"""Between two looks at each; at rest they are what costs most of all that Maestoso does."""
BOARD_EVERY_S, BOARD_AT_MOST_EVERY_S = 5.0, 1.0
"""The board is looked after when something was announced, and once in a while all the same,"""
BOARD_SELDOM_S = 30.0
"""which may be long while nobody looks: whoever opens a page announces it."""
BACKUPS_EVERY_S = 5.0
NAMES_EVERY_S = 10.0
MESSAGES_AT_MOST_EVERY_S = 1.0
RECORDS, BOARD, BACKUPS, MESSAGES, NAMES = "records", "board", "backups", "messages", "names"
WITNESS, RENEW_LEASE_EVERY_S = "witness", FOR_S / 6
HELD_S = {WITNESS: FOR_S / 3}
"""A duty that another keeper must have sooner where the machine of the one before is lost: else the lease at
the witness would be over by then."""
log = logging.getLogger("maestoso.keeper")
Task = Callable[[], None]


def keep(stop: threading.Event, clock: Clock, owner: str) -> None:
    """Go on until ``stop``; ``owner`` names this process, as in the leases of runs."""
    there: dict[str, threading.Thread] = {}
    while not stop.is_set():
        try:
            close_old_connections()
            codes = list(Site.objects.values_list("code", flat=True))
        except Exception:
            log.exception("Which sites there are cannot be read; it is tried again")
            codes = []
        for duty in [RECORDS, BOARD, BACKUPS, MESSAGES, NAMES, WITNESS, *codes]:
            if duty not in there or not there[duty].is_alive():
                tasks, pause = _duty(duty, clock, stop)
                there[duty] = threading.Thread(
                    target=perform_duty,
                    args=(duty, tasks, pause, owner, HELD_S.get(duty, LEASE_S)),
                    name=f"keeper-{duty}",
                    daemon=True,
                )
                there[duty].start()
        stop.wait(EVERY_S)
    _quietly(RECORDS, partial(release, owner))


def perform_duty(
    duty: str,
    tasks: Callable[[], Sequence[Task]],
    pause: Callable[[], bool],
    owner: str,
    lease_s: float = LEASE_S,
) -> None:
    """One duty, task by task, while its lease is held here, until a ``pause`` says that it is over.

    ``tasks`` gives none for a site that is gone.
    """
    found: Sequence[Task] = ()
    renew_at = 0.0

    def begin() -> None:
        nonlocal found, renew_at
        # Not known to be held is not held.
        found = ()
        if time.monotonic() >= renew_at:
            if not take(duty, owner, lease_s):
                return
            renew_at = time.monotonic() + lease_s / 4
        found = tasks()
        if not found:
            raise _Gone

    while not pause():
        try:
            _quietly(duty, begin)
        except _Gone:
            break
        for task in found:
            _quietly(duty, task)
    connection.close()


class _Gone(BaseException):
    """There is nothing to look after any more."""


def _duty(
    duty: str, clock: Clock, stop: threading.Event
) -> tuple[Callable[[], Sequence[Task]], Callable[[], bool]]:
    """What is to be done each time, and the pause before."""
    if duty == BOARD:
        waiter = news.NewsWaiter()
        watched = True

        def refresh() -> None:
            nonlocal watched
            watched = refresh_board(clock)

        def pause() -> bool:
            if not stop.wait(BOARD_AT_MOST_EVERY_S):
                waiter.wait(BOARD_EVERY_S if watched else BOARD_SELDOM_S)
            return stop.is_set()

        return lambda: [refresh], pause
    if duty == BACKUPS:
        backups = [partial(back_up_when_due, clock), partial(copy_to_bucket, clock)]
        return lambda: backups, lambda: stop.wait(BACKUPS_EVERY_S)
    if duty == NAMES:
        return lambda: [partial(read_zones, clock)], lambda: stop.wait(NAMES_EVERY_S)
    if duty == WITNESS:
        return lambda: [renew], lambda: stop.wait(RENEW_LEASE_EVERY_S)
    if duty == MESSAGES:
        ear = news.NewsWaiter()

        def pause_of_messages() -> bool:
            if not stop.wait(MESSAGES_AT_MOST_EVERY_S):
                ear.wait(EVERY_S)
            return stop.is_set()

        tasks_of_messages = [partial(task, clock) for task in (notice, deliver, write_stream)]
        return lambda: tasks_of_messages, pause_of_messages
    tasks = partial(_of_records, clock) if duty == RECORDS else partial(_of_site, duty, clock)
    return tasks, lambda: stop.wait(EVERY_S)


def _of_records(clock: Clock) -> Sequence[Task]:
    return [partial(task, clock) for task in RECORD_TASKS]


def _of_site(code: str, clock: Clock) -> Sequence[Task]:
    site = Site.objects.filter(code=code).first()
    return [partial(task, site, clock) for task in SITE_TASKS] if site is not None else ()


def _quietly(duty: str, task: Task) -> None:
    try:
        close_old_connections()
        task()
    except Exception:
        log.exception("Looking after %s failed; it is tried again", duty)
