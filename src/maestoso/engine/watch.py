"""Probes the services of one run from outside, from its start to its end."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Mapping, Sequence

from maestoso.core.ports import SiteClient, SiteRefused, SiteUnreachable

log = logging.getLogger("maestoso.engine")
EVERY_S = 1.0
PRACTICE_EVERY_S = 0.25
"""At a pace, a second on the wall is many of the run."""


class Watch:
    """``answering`` says by site which services answered last, None where the site did not.

    It is complete once every site was asked; until then there is nothing to conclude. ``on_change`` is called
    when an answer differs from the one before.
    """

    def __init__(
        self,
        clients: Mapping[str, SiteClient],
        workloads: Sequence[str],
        mark: str,
        pace: float,
        on_change: Callable[[], None],
    ) -> None:
        self.answering: dict[str, frozenset[tuple[str, str]] | None] = {}
        self._sites = len(clients)
        self._workloads, self._mark = workloads, mark
        self._every_s = EVERY_S if pace == 1 else PRACTICE_EVERY_S
        self._on_change = on_change
        self._tasks = [asyncio.ensure_future(self._ask(site, client)) for site, client in clients.items()]

    @property
    def complete(self) -> bool:
        """Whether every site was asked at least once."""
        return len(self.answering) == self._sites

    def end(self) -> None:
        """Ask no more."""
        for task in self._tasks:
            task.cancel()

    async def _ask(self, site: str, client: SiteClient) -> None:
        while True:
            try:
                found: frozenset[tuple[str, str]] | None = await client.answering(self._workloads, self._mark)
            except (SiteUnreachable, SiteRefused):
                found = None
            except Exception:
                # Probes go on whatever a site says; what cannot be worked with is as if it said nothing.
                log.exception("What %s said of its services could not be worked with", site)
                found = None
            if site not in self.answering or self.answering[site] != found:
                self.answering[site] = found
                self._on_change()
            await asyncio.sleep(self._every_s)
