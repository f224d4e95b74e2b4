"""Everything that is said, beside what is so. Each check gives a sentence for what does not agree."""

from __future__ import annotations

import re
from collections.abc import Iterator

from maestoso.core.codec import to_data
from maestoso.core.people.scope import EVERYTHING
from maestoso.core.planning.inputs import LIVE
from maestoso.core.readiness.assess import RECOVERY, assess
from maestoso.core.readiness.if_lost import IfLost
from maestoso.server.board.readiness import readiness
from maestoso.server.board.site_line import site_line
from maestoso.server.estate.models import Site
from maestoso.server.protection.picture import overview
from maestoso.server.protection.services import find_group
from maestoso.server.readiness.surroundings import Surroundings
from maestoso.server.runs.events import run_name
from maestoso.server.runs.models import Run
from maestoso.server.runs.picture import copying, status
from maestoso.server.runs.shapes import RunStatus
from maestoso.server.runs.states import current
from tests.walks import truth
from tests.walks.walker import WHO, Walk

NONSENSE = re.compile(
    r"\bNone\b(?! (is|of))|\bNaN\b|\bnan\b|undefined|\binf\b|(?<!\d )\b1 (groups|workloads|copies|plans)\b|\bnow now\b"
)


def disagreements(walk: Walk) -> Iterator[str]:
    """All that is said and is not so."""
    yield from _site_line(walk)
    yield from _board(walk)
    yield from _groups(walk)
    yield from _runs(walk)


def _nonsense(what: str, said: object) -> Iterator[str]:
    if isinstance(said, str):
        if NONSENSE.search(said):
            yield f"{what} says {said!r}"
    elif isinstance(said, dict):
        for value in said.values():
            yield from _nonsense(what, value)
    elif isinstance(said, list):
        for value in said:
            yield from _nonsense(what, value)


def _site_line(walk: Walk) -> Iterator[str]:
    line = site_line(walk.clock.now(), WHO, EVERYTHING)
    for station in line.stations:
        site = walk.sites[station.code]
        if (station.lost_because is None) != site.answers:
            yield f"site line: {station.code} is said to {'answer' if site.answers else 'be lost'} wrongly"
        if site.answers:
            real = truth.running(site)
            if station.running != len(real):
                yield f"site line: {station.running} run at {station.code}; {len(real)} do: {sorted(real)}"
            copies = truth.test_copies(site)
            if station.copies != len(copies):
                yield f"site line: {station.copies} copies at {station.code}; {len(copies)} run"
    yield from _nonsense("site line", to_data(line))


def _board(walk: Walk) -> Iterator[str]:
    now = walk.clock.now()
    board, around = readiness(now), Surroundings(now)
    yield from _nonsense("board", to_data(board))
    for lost in board.if_lost:
        if lost.down == walk.sites[lost.site].answers:
            yield f"board: {lost.site} is said to be {'down' if lost.down else 'up'}"
        here = truth.running(walk.sites[lost.site])
        if walk.sites[lost.site].answers and lost.running != len(here):
            yield f"board: {lost.running} run at {lost.site}; {sorted(here)} do"
        real = _comes_back(walk, lost, around)
        if walk.sites[lost.site].answers:
            real &= here  # what is off there now is not missed
        if lost.back != len(real):
            yield f"board: {lost.back} of {lost.site} would be back; {sorted(real)} come back by {lost.plans}"
        if not lost.back and lost.plans:
            yield f"board: nothing would be back, and {lost.plans} are named"
        if lost.back and lost.about_s is None:
            yield "board: the headline breaks off, there is no forecast"


def _comes_back(walk: Walk, lost: IfLost, around: Surroundings) -> set[str]:
    """What really comes up of it, with the plans that are named, or with any where none is."""
    now, back = walk.clock.now(), set()
    for code in lost.plans or around.plans:
        ctx = around.context(around.plans[code], around.versions[code].number)
        if ctx.plan.source != lost.site or not walk.sites[ctx.plan.target].answers:
            continue
        judged = assess(ctx, RECOVERY, "t0", {}, samples=2)
        blocked = [one for one in judged.blocking if one.code != "run-in-the-way"]
        if not blocked and judged.inputs is not None:
            back |= truth.brought_up(walk.sites, judged.inputs, now)
    return back


def _groups(walk: Walk) -> Iterator[str]:
    seen = overview(walk.clock.now())
    yield from _nonsense("groups", to_data(seen))
    safe = 0
    for line in seen.groups:
        site, said = walk.sites[line.target], line.health.condition
        writable = any(truth.promoted(one, line.code) for one in walk.sites.values())
        at = truth.newest(site, line.code)
        age = (walk.clock.now() - at).total_seconds() if at else None
        safe += line.members if at and not writable else 0
        if writable and said not in ("moving", "unprotected", "seeding", "unknown"):
            yield f"groups: {line.code} is {said}, and it runs elsewhere: {line.stage}"
        if not site.answers and said in ("healthy", "lagging", "paused", "stalled", "failing"):
            yield f"groups: {line.code} is {said}, and {line.target} says nothing"
        if said == "healthy" and (age is None or age > line.policy.rpo_s):
            yield f"groups: {line.code} is healthy, its newest point {age} s old"
        if said == "lagging" and (age is None or age <= line.policy.rpo_s):
            yield f"groups: {line.code} is lagging, its newest point {age} s old"
    settled = all(line.stage in ("protected", "running committed") for line in seen.groups)
    if settled and seen.protected != safe:
        yield f"groups: {seen.protected} are protected; there are points of {safe}"


def _runs(walk: Walk) -> Iterator[str]:
    names = dict(Site.objects.values_list("code", "name"))
    for run in Run.objects.filter(last_seq__gt=0):
        with current(run.pk) as state:
            said = status(run.pk, state, names, walk.clock.now(), copying(run))
        what = f"run {run.pk} ({run.kind})"
        yield from _nonsense(what, to_data(said))
        silent = any("does not answer" in notice for notice in said.notices)
        if run.outcome and (said.lost_sites or silent):
            yield f"{what} ended, and says {said.notices}"
        if not run.outcome and silent and all(site.answers for site in walk.sites.values()):
            yield f"{what} says {said.notices}, and every site answers"
        if run.kind in LIVE:
            yield from _of_copies(walk, what, run, said)
            yield from _of_services(walk, what, run, said)
            if said.under.startswith("Nothing was lost"):
                yield from _equal(walk, what, run)


def _of_copies(walk: Walk, what: str, run: Run, said: RunStatus) -> Iterator[str]:
    """Where groups can be written to, and what is fenced, while the run goes on."""
    if run.outcome:
        return
    source, target = walk.sites[said.source], walk.sites[said.target]
    for used in said.groups:
        members = set(find_group(used.group).core().members)
        here = any(truth.machine_runs(source, name) for name in members) and source.answers
        if used.writable == said.target and not truth.promoted(target, used.group):
            yield f"{what}: {used.group} is said to be writable at {said.target}"
        if used.writable == said.source and truth.promoted(target, used.group) and target.answers:
            yield f"{what}: {used.group} is said to be writable at {said.source}"
        if (
            used.writable != said.source
            and not truth.promoted(target, used.group)
            and here
            and target.answers
        ) and not truth.fenced(source) & members:
            yield f"{what}: {used.group} is said to be writable at {used.writable or 'no site'}"
        # What the run gave up waiting for may be done there: it is confirmed when its kept fence is.
        unconfirmed = {kept.workload for kept in run.kept_fences.all() if not kept.delivered}
        really = (truth.fenced(source) & members) - unconfirmed
        if source.answers and used.fenced != len(really):
            yield f"{what}: {used.fenced} of {used.group} fenced; {sorted(really)} are"


def _of_services(walk: Walk, what: str, run: Run, said: RunStatus) -> Iterator[str]:
    """What is said to be away does not answer, and the other way round."""
    open_ones = {(one.workload, one.service) for one in said.outages if one.to_s is None}
    if len(open_ones | {(one.workload, one.service) for one in said.outages}) != len(said.outages):
        yield f"{what}: the same service has several outages"
    if run.outcome not in ("", "rolled back") or not all(site.answers for site in walk.sites.values()):
        return
    for one in said.outages:
        answers = truth.answering(walk.sites, one.workload)
        if one.to_s is None and answers:
            yield f"{what} {run.outcome}: {one.service} answers and is said to be away"
        if one.to_s is not None and not answers and not run.outcome:
            yield f"{what}: {one.service} does not answer and is said to be back"


def _equal(walk: Walk, what: str, run: Run) -> Iterator[str]:
    """Where nothing is said to be lost, the copies that came up are equal to their fenced sources."""
    name = run_name(run.pk)
    fenced, promoted = {}, {}
    for entry in walk.sites[run.source].world.journal:
        if entry.key.startswith(f"{name}:fence:"):
            fenced[entry.subject] = entry.effect["checksum"]
    for entry in walk.sites[run.target].world.journal:
        if entry.key.startswith(f"{name}:promote:"):
            promoted |= entry.effect["checksums"]
    for workload, found in promoted.items():
        if workload in fenced and fenced[workload] != found:
            yield f"{what} says that nothing was lost, and {workload} is not what its source was"
