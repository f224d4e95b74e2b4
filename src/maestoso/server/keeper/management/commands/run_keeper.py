"""``run_keeper``: the keeper's process. Several may run; each site is looked after by one of them."""

from __future__ import annotations

import os
import signal
import socket
import threading
from typing import Any

from django.core.management.base import BaseCommand

from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import incarnation
from maestoso.server.config.collector import look_for_cycles_seldom
from maestoso.server.keeper.keep import keep

LONGEST_NAME = 60


class Command(BaseCommand):
    """Runs until it is told to stop."""

    help = __doc__ or ""
    # They load every view, and a keeper that died should be back sooner.
    requires_system_checks = ()

    def handle(self, *args: Any, **options: Any) -> None:
        """Look after everything until a signal comes."""
        look_for_cycles_seldom()
        stop = threading.Event()
        for sign in (signal.SIGTERM, signal.SIGINT):
            signal.signal(sign, lambda *_: stop.set())
        name = os.environ.get("MAESTOSO_KEEPER_NAME", f"keeper@{socket.gethostname()}")[:LONGEST_NAME]
        keep(stop, SystemClock(), incarnation(name))
