"""Fences that could not be delivered when they were wanted: kept, and delivered when their site answers."""

from __future__ import annotations

import logging
from collections.abc import Iterable

from django.db.models import F

from maestoso.core.errors import DomainError, Refused
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
        try:
            if kept.lift:
                _lift(site, kept)
            else:
                _fence(site, kept, clock)
        except Refused as error:
            if error.code != "site-unreachable":
                # It failed there: asked again under its key, the site would only repeat that.
                KeptFence.objects.filter(pk=kept.pk).update(tries=F("tries") + 1)
            raise
    if run.outcome == "committed":
        names = list(KeptFence.objects.filter(run=run, site=site).values_list("workload", flat=True))
        perform(site, "give-up", "run", {"workloads": names}, f"kept/{run.pk}/give-up/{len(names)}")


def _fence(site: Site, kept: KeptFence, clock: Clock) -> None:
    """Unless its run is taken back first: then it is not wanted, or is to be lifted next time."""
    wanted = KeptFence.objects.filter(pk=kept.pk, lift=False)
    if not wanted.update(asked_at=clock.now()):
        return
    said = perform(site, "fence", kept.workload, {"cut": True}, f"{_key(kept)}/fence")
    wanted.update(delivered_at=clock.now(), found_running=bool(said.result.get("was_running")))
    log.info("The fence of %s was delivered to %s.", kept.workload, site.code)


def _lift(site: Site, kept: KeptFence) -> None:
    perform(site, "lift-fence", kept.workload, {}, f"{_key(kept)}/lift")
    perform(site, "power-on", kept.workload, {"unless_on": True}, f"{_key(kept)}/on")
    kept.delete()


def _key(kept: KeptFence) -> str:
    return f"kept/{kept.run_id}/{kept.pk}/{kept.tries}"


def found_running() -> dict[str, str]:
    """Workloads of which a second live copy was found and nobody has looked at it, with the site where."""
    rows = KeptFence.objects.filter(found_running=True, seen_by="").select_related("site")
    return {kept.workload: kept.site.code for kept in rows}


def seen(run: Run, by: str) -> None:
    """Somebody looked at the copies that were found running."""
    KeptFence.objects.filter(run=run, found_running=True, seen_by="").update(seen_by=by)
