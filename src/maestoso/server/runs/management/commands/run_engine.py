"""``run_engine``: the engine process. It conducts every unfinished run whose lease it can get."""

from __future__ import annotations

import asyncio
import os
import signal
import socket
from typing import Any

from django.core.management.base import BaseCommand
from django.db import OperationalError

from maestoso.core.ports import SiteClient
from maestoso.engine.conductor import Conductor
from maestoso.server.estate.agents import client
from maestoso.server.estate.models import Site
from maestoso.server.runs.log import DatabaseRunLog
from maestoso.sites.client import HttpSite


class Command(BaseCommand):
    """Runs until it is told to stop."""

    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        """Wire the ports to their adapters and conduct."""
        asyncio.run(_conduct())


async def _conduct() -> None:
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for sign in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(sign, stop.set)
    agents = await _agents(stop)
    # The same name after a restart lets it take its own runs over at once.
    owner = os.environ.get("MAESTOSO_ENGINE_NAME", f"engine@{socket.gethostname()}")
    await Conductor(DatabaseRunLog(), _Directory(agents), owner).conduct(stop)
    for agent in agents.values():
        await agent.close()


class _Directory:
    """Clients of sites by code; a site that was registered later is looked up when it is first asked."""

    def __init__(self, agents: dict[str, HttpSite]) -> None:
        self.agents = agents

    def __call__(self, code: str) -> SiteClient:
        return self.agents[code]


async def _agents(stop: asyncio.Event) -> dict[str, HttpSite]:
    """All agents, once the database answers."""
    while True:
        try:
            sites = await asyncio.to_thread(lambda: list(Site.objects.all()))
            return {site.code: client(site) for site in sites}
        except OperationalError:
            if stop.is_set():
                return {}
            await asyncio.sleep(0.5)
