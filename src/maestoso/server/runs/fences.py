"""What could not be asked of a source when it was wanted, fences above all, waits until that site answers."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from django.db.models import Q, QuerySet

from maestoso.core.outbox import DONE
from maestoso.core.planning.door_steps import closing, opening
from maestoso.core.planning.failover import CLOSE_DOORS
from maestoso.core.ports import Clock
from maestoso.core.runs.events import Event
from maestoso.server.audit.record import recorded
from maestoso.server.common.news import announce
from maestoso.server.estate.models import Site
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.services import KEEPER, ask_for, withdraw
from maestoso.server.runs.events import inputs_of
from maestoso.server.runs.models import KeptFence, Run

CLOSES = "withdraw-address"
DELIVERED = Q(request__status=DONE)
FOUND_RUNNING = DELIVERED & Q(request__result__was_running=True)


def apply_events(run: Run, events: Sequence[Event]) -> None:
    """Fences that could not be confirmed are kept; those of a run that was taken back are lifted."""
    if run.kind in ("test", "re-protect"):
        return
    for event in events:
        step = str(event.data.get("step", ""))
        if event.kind == "step.skipped" and run.kind == "disaster" and step.startswith("fence:"):
            keep(run, [step.removeprefix("fence:")])
        elif event.kind == "step.skipped" and step == CLOSE_DOORS:
            close_doors(run)
        elif event.kind == "step.skipped" and step == "give-up:run":
            # The source was gone, or was left alone until now: it is told when it answers.
            keep(run, inputs_of(run).plan.workloads())
        elif event.kind == "run.finished" and event.data["outcome"] != "committed":
            take_back(run)


def keep(run: Run, workloads: Iterable[str]) -> None:
    """The source is asked to fence them as soon as it answers."""
    source, there = Site.objects.get(code=run.source), set(run.kept_fences.values_list("workload", flat=True))
    for name in workloads:
        if name not in there:
            request = ask_for(source, "fence", name, {"cut": True}, by=_who(run), insists=True)
            KeptFence.objects.create(run=run, site=source, workload=name, request=request)


def close_doors(run: Run) -> None:
    """The source closes its front doors as soon as it answers: the same address may be open elsewhere."""
    asked = closing(inputs_of(run).all_opened(), "")
    ask_for(Site.objects.get(code=run.source), CLOSES, "run", asked, by=_who(run), insists=True)


def take_back(run: Run) -> None:
    """The run was taken back: what was not asked for is not wanted any more, and the rest is lifted again."""
    for asked in SiteRequest.objects.filter(verb=CLOSES, by=_who(run)).select_related("site"):
        if not withdraw(asked):
            doors = opening(inputs_of(run).all_opened(), "", str, "before")
            ask_for(asked.site, "publish-address", "run", doors, by=_who(run), insists=True)
    for kept in run.kept_fences.select_related("site", "request"):
        if not withdraw(kept.request):
            # It may be there, or come to be: these wait behind it.
            for verb, args in (("lift-fence", {}), ("power-on", {"unless_on": True})):
                ask_for(kept.site, verb, kept.workload, args, by=_who(run), insists=True)
        kept.delete()


def fence_again(site: Site) -> None:
    """Its agent lost its memory: what was fenced there may get power again, unless it is fenced once more."""
    for kept in KeptFence.objects.filter(DELIVERED, site=site).select_related("run"):
        kept.request = ask_for(site, "fence", kept.workload, {"cut": True}, by=_who(kept.run), insists=True)
        kept.given_up = None
        kept.save(update_fields=["request", "given_up"])


def give_up_what_is_fenced(clock: Clock) -> None:
    """What was committed is at home elsewhere: once all its fences are there, its source is told so."""
    fences = KeptFence.objects.filter(run__outcome="committed", given_up=None)
    for run in Run.objects.filter(pk__in=fences.values("run")):
        kept = run.kept_fences.all()
        if kept.filter(DELIVERED).count() == kept.count():
            names = list(kept.values_list("workload", flat=True))
            site = Site.objects.get(pk=kept[0].site_id)
            doors = [one.name for one in inputs_of(run).all_opened()]
            told = {"workloads": names, **({"doors": doors} if doors else {})}
            request = ask_for(site, "give-up", "run", told, by=KEEPER, insists=True)
            kept.update(given_up=request)


def found_running() -> dict[str, str]:
    """Workloads of which a second live copy was found and nobody has looked at it, with the site where."""
    return dict(unseen().values_list("workload", "site__code"))


def unseen() -> QuerySet[KeptFence]:
    """Fences that turned a second live copy off which nobody has looked at since."""
    return KeptFence.objects.filter(FOUND_RUNNING, seen_by="").select_related("site")


@recorded()
def seen(run: Run, by: str) -> None:
    """Somebody looked at the copies that were found running."""
    unseen().filter(run=run).update(seen_by=by)
    announce()


def _who(run: Run) -> str:
    return f"run {run.pk}"
