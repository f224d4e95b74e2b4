"""``run_workers``: the process whose workers do jobs. Any number may run, on any number of machines."""

from __future__ import annotations

import logging
import threading
import time
import warnings
from typing import Any

from celery.exceptions import SecurityWarning  # type: ignore[import-untyped]
from django.core.management.base import BaseCommand
from django.db import DatabaseError, close_old_connections

from maestoso.engine.clock import SystemClock
from maestoso.server.config.settings import OPTIONS
from maestoso.server.jobs.queue import app, prepare
from maestoso.server.jobs.services import tell_again

LOOK_EVERY_S = 5.0
log = logging.getLogger("maestoso.jobs")


def look_out() -> None:
    """Tell the workers of this process what nobody took: asked for on another machine, say, or lost."""
    clock = SystemClock()
    while True:
        try:
            close_old_connections()
            tell_again(clock)
        except DatabaseError as error:
            log.warning("It cannot be seen now what is to be done; it is tried again: %s", error)
        time.sleep(LOOK_EVERY_S)


class Command(BaseCommand):
    """Runs until it is told to stop."""

    help = __doc__ or ""
    # They load every view, which workers do not need.
    requires_system_checks = ()

    def handle(self, *args: Any, **options: Any) -> None:
        """Start as many workers as the settings say; they need not know of one another."""
        prepare()
        threading.Thread(target=look_out, name="look-out", daemon=True).start()
        # It warns of messages that hold programs, where root runs it; these hold numbers.
        warnings.filterwarnings("ignore", category=SecurityWarning)
        app.worker_main(
            [
                "--quiet", "worker", "--pool", "prefork", "--concurrency", str(OPTIONS.workers),
                "--loglevel", "WARNING", "--without-gossip", "--without-mingle", "--without-heartbeat",
            ]
        )  # fmt: skip
