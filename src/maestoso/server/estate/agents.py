"""Speaking to site agents from the web process: short questions, short patience, remembered briefly."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import TypeVar

from asgiref.sync import async_to_sync
from django.core.cache import cache

from maestoso.core.model.protection import CopyState, RecoveryPoint
from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.engine.clock import SystemClock
from maestoso.server.common.secret_text import unseal
from maestoso.server.estate.models import Site
from maestoso.sites.client import HttpSite
from maestoso.sites.contract import SitePulse

PATIENCE_S = 2.0
REMEMBER_S = 2

CLOCK = SystemClock()

T = TypeVar("T")


def client(site: Site) -> HttpSite:
    """A client of the site's agent."""
    return HttpSite(site.agent_url, unseal(site.agent_token))


def ask(site: Site, question: Callable[[HttpSite], Awaitable[T]]) -> T:
    """Put one question to one agent. Raises SiteUnreachable or SiteRefused."""

    async def call() -> T:
        async with client(site) as agent:
            try:
                async with asyncio.timeout(PATIENCE_S):
                    return await question(agent)
            except TimeoutError as error:
                raise SiteUnreachable(f"No answer within {PATIENCE_S:.0f} s.") from error

    return async_to_sync(call)()


@dataclass(frozen=True, slots=True, kw_only=True)
class Pulse:
    """What a site said just now, or why it said nothing. ``skew_s``: how far its clock is ahead of ours."""

    said: SitePulse | None = None
    lost_because: str | None = None
    skew_s: float = 0.0

    @property
    def newest(self) -> dict[str, RecoveryPoint]:
        """The newest point of every group copied to it."""
        return {state.group: state.newest for state in self.copying.values() if state.newest}

    @property
    def copying(self) -> dict[str, CopyState]:
        """How every group copied to it stands."""
        return {state.group: state for state in self.said.groups} if self.said else {}


def pulse(site: Site) -> Pulse:
    """The pulse of a site, at most two seconds old."""
    key = f"pulse:{site.pk}:{site.agent_url}"
    known: Pulse | None = cache.get(key)
    if known is not None:
        return known
    try:
        said = ask(site, lambda agent: agent.pulse())
        taken = Pulse(said=said, skew_s=(said.now - CLOCK.now()).total_seconds())
    except (SiteUnreachable, SiteRefused) as error:
        taken = Pulse(lost_because=str(error))
    cache.set(key, taken, REMEMBER_S)
    return taken
