"""``run_engine``: the engine process. It conducts every unfinished run whose lease it can get."""

from __future__ import annotations

import asyncio
import os
import signal
import socket
from contextlib import suppress
from typing import Any

from django.core.management.base import BaseCommand
from django.db import DatabaseError

from maestoso.engine.conductor import Conductor
from maestoso.engine.incarnation import incarnation
from maestoso.server.common.news import hearing
from maestoso.server.config.collector import look_for_cycles_seldom
from maestoso.server.runs.beats import Beats
from maestoso.server.runs.delivery import client_of
from maestoso.server.runs.log import DatabaseRunLog

LONGEST_NAME = 60
POLL_S = 1.0
"""It hears of news; this is for what no process of this machine wrote, and for rings that were lost."""


class Command(BaseCommand):
    """Runs until it is told to stop."""

    help = __doc__ or ""
    # They load every view, and an engine that died should be back sooner.
    requires_system_checks = ()

    def handle(self, *args: Any, **options: Any) -> None:
        """Wire the ports to their adapters and conduct."""
        look_for_cycles_seldom()
        asyncio.run(_conduct())


async def _conduct() -> None:
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for sign in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(sign, stop.set)
    name = os.environ.get("MAESTOSO_ENGINE_NAME", f"engine@{socket.gethostname()}")[:LONGEST_NAME]
    owner = incarnation(name)
    beats = Beats(name)
    conductor = Conductor(DatabaseRunLog(), client_of, owner, poll_s=POLL_S, on_turn=beats.turned)
    with hearing(conductor.wake):
        await conductor.conduct(stop)
    with suppress(DatabaseError):
        await asyncio.to_thread(beats.ended)
