"""The site line: where everything runs, what is copied where, which runs are under way and what they need."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta

from maestoso.core.model.protection import LinkState
from maestoso.core.people.scope import Reach
from maestoso.core.replication.lifecycle import is_copied
from maestoso.core.runs.needs import Need, needs
from maestoso.core.runs.whereabouts import up_at_target
from maestoso.engine.clock import SystemClock
from maestoso.server.board.shapes import Flow, LinkLine, RunUnderWay, SiteLine, Station, Told, Waits
from maestoso.server.estate.agents import Pulse, pulse
from maestoso.server.estate.models import Link, Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.protection.services import rows_and_groups
from maestoso.server.reign.services import past_because
from maestoso.server.runs.models import Run
from maestoso.server.runs.states import each
from maestoso.server.runs.whereabouts import running

CLOCK = SystemClock()


def site_line(now: datetime, who: str, reach: Reach) -> SiteLine:
    """The site line at ``now``, with what ``who`` is told; of it what is within their reach."""
    sites = [site for site in Site.objects.all() if reach.has("site", site.code)]
    pulses = {site.code: pulse(site) for site in sites}
    here = running(estate().rows, pulses)
    if not reach.everything:
        here = {code: names & reach.workloads for code, names in here.items()}
    copies = {site.code: 0 for site in sites}
    under_way, told = [], []
    for run, state in each(_within(Run.objects.filter(outcome="", last_seq__gt=0), reach)):
        if run.kind == "test":
            copies[run.target] = copies.get(run.target, 0) + len(up_at_target(state))
        wanted = needs(state)
        under_way.append(
            RunUnderWay(
                id=run.pk, plan_name=run.plan_name, kind=run.kind, source=run.source,
                target=run.target, run_s=round(state.run_seconds(now), 1), waits=_waits(wanted),
            )
        )  # fmt: skip
        told += [
            Told(run=run.pk, step=step.id, plan_name=run.plan_name, text=str(step.args["text"]))
            for step in state.graph.steps
            if step.verb == "notify" and state.steps[step.id].status == "done"
        ]
        if who in run.tell:
            told += _told_of(run, wanted)
    told += [
        Told(
            run=run.pk, step="ended", plan_name=run.plan_name, text=f"the {run.kind} run ended: {run.outcome}"
        )
        for run in _within(Run.objects.filter(ended_at__gt=now - TOLD_FOR), reach)
        if who in run.tell
    ]
    return SiteLine(
        stations=tuple(
            _station(site, pulses[site.code], len(here.get(site.code, ())), copies[site.code], reach)
            for site in sites
        ),
        flows=_flows(pulses, now, reach),
        links=_links(pulses),
        runs=tuple(under_way),
        told=tuple(told),
        past=past_because(),
    )  # fmt: skip


def _within(runs: Iterable[Run], reach: Reach) -> list[Run]:
    return [run for run in runs if reach.has_run(run.plan_code, run.source, run.target)]


def _station(site: Site, taken: Pulse, running: int, copies: int, reach: Reach) -> Station:
    """By the site's own count of its machines where it gives one, and by the records where it does not, or
    where not all of them are within reach."""
    said = taken.said if reach.everything or site.code in reach.own_sites else None
    return Station(
        code=site.code, name=site.name, kind=site.kind, practice=site.practice,
        running=running if said is None or said.running is None else said.running,
        copies=copies if said is None or said.copies is None else said.copies,
        lost_because=taken.lost_because,
    )  # fmt: skip


def _waits(wanted: Sequence[Need]) -> Waits | None:
    if not wanted:
        return None
    return Waits(kind=wanted[0].kind, title=wanted[0].title, since=wanted[0].since)


def _told_of(run: Run, wanted: Sequence[Need]) -> list[Told]:
    """What whoever is to be told hears of a run under way: that it began, and whenever it needs somebody."""
    begun = f"{run.started_by} started a {run.kind} run"
    return [
        Told(run=run.pk, step="started", plan_name=run.plan_name, text=begun),
        *(
            Told(run=run.pk, step=f"{need.kind} {need.step}", plan_name=run.plan_name, text=need.title)
            for need in wanted
        ),
    ]


TOLD_FOR = timedelta(hours=12)
"""How long after its end a run is told of."""


def _flows(pulses: dict[str, Pulse], now: datetime, reach: Reach) -> tuple[Flow, ...]:
    flows: dict[tuple[str, str], list[float | None]] = {}
    newest = {code: taken.newest for code, taken in pulses.items()}
    for row, group in rows_and_groups():
        if not is_copied(row.stage) and row.stage != "re-protecting":
            continue  # no protection flows
        if not reach.has("group", group.code):
            continue
        point = newest[group.target].get(group.code)
        age = (now - point.at).total_seconds() if point else None
        flows.setdefault((group.source, group.target), []).append(age)
    return tuple(
        Flow(
            source=source,
            target=target,
            groups=len(ages),
            oldest_s=max((age for age in ages if age is not None), default=None),
            without_point=ages.count(None),
        )
        for (source, target), ages in flows.items()
    )


def _links_of(taken: Pulse) -> tuple[LinkState, ...]:
    return taken.said.links if taken.said is not None else ()


def _links(pulses: dict[str, Pulse]) -> tuple[LinkLine, ...]:
    """Every line, cut where either end says so."""
    found = []
    for link in Link.objects.select_related("one", "other").order_by("id"):
        ends = (link.one.code, link.other.code)
        if not all(end in pulses for end in ends):
            continue  # out of reach
        said = [
            state.cut_because
            for here, there in (ends, ends[::-1])
            for state in _links_of(pulses[here])
            if state.source == there and state.cut_because
        ]
        found.append(LinkLine(one=ends[0], other=ends[1], cut_because=said[0] if said else None))
    return tuple(found)
