"""Fences that could not be delivered when they were wanted: kept, and delivered when their site answers."""

from __future__ import annotations

import logging
from collections.abc import Iterable

from maestoso.core.errors import DomainError
from maestoso.core.ports import Clock
from maestoso.server.estate.agents import perform, pulse
from maestoso.server.estate.models import Site
from maestoso.server.runs.models import KeptFence, Run

log = logging.getLogger("maestoso.keeper")


def deliver_fences(clock: Clock) -> None:
    """To every site that answers, all that is kept for it."""
    waiting = KeptFence.objects.filter(delivered_at=None).select_related("run", "site")
    by_run: dict[tuple[Site, Run], list[KeptFence]] = {}
    for kept in waiting:
        by_run.setdefault((kept.site, kept.run), []).append(kept)
    for (site, run), fences in by_run.items():
        if pulse(site).lost_because is None:
            try:
                _deliver(site, run, fences, clock)
            except DomainError as error:
                log.warning("Fences were not delivered to %s: %s", site.code, error.sentence)


def _deliver(site: Site, run: Run, fences: Iterable[KeptFence], clock: Clock) -> None:
    """One after the other; what was delivered stays delivered when a later one fails."""
    for kept in fences:
        name, key = kept.workload, f"kept/{run.pk}/{kept.pk}"
        if kept.lift:
            perform(site, "lift-fence", name, {}, f"{key}/lift")
            perform(site, "power-on", name, {"unless_on": True}, f"{key}/on")
            kept.delete()
            continue
        said = perform(site, "fence", name, {"cut": True}, f"{key}/fence")
        kept.delivered_at = clock.now()
        kept.found_running = bool(said.result.get("was_running"))
        kept.save(update_fields=["delivered_at", "found_running"])
        log.info("The fence of %s was delivered to %s.", name, site.code)
    if run.outcome == "committed":
        names = list(KeptFence.objects.filter(run=run, site=site).values_list("workload", flat=True))
        perform(site, "give-up", "run", {"workloads": names}, f"kept/{run.pk}/give-up")


def found_running() -> dict[str, str]:
    """Workloads of which a second live copy was found and nobody has looked at it, with the site where."""
    rows = KeptFence.objects.filter(found_running=True, seen_by="").select_related("site")
    return {kept.workload: kept.site.code for kept in rows}


def seen(run: Run, by: str) -> None:
    """Somebody looked at the copies that were found running."""
    KeptFence.objects.filter(run=run, found_running=True, seen_by="").update(seen_by=by)
