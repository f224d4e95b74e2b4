"""Everything that is said, beside what is so. Each check gives a sentence for what does not agree."""

from __future__ import annotations

import re
from collections.abc import Iterator

from maestoso.core.codec import to_data
from maestoso.core.readiness.if_lost import IfLost
from maestoso.server.estate.models import Site
from maestoso.server.estate.views import site_line
from maestoso.server.plans.judgement import judge
from maestoso.server.plans.readiness import RECOVERY, readiness
from maestoso.server.plans.surroundings import Surroundings
from maestoso.server.protection.picture import overview
from maestoso.server.runs.models import Run
from maestoso.server.runs.picture import status
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
    line = site_line(walk.clock.now(), WHO)
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
    board = readiness(now)
    yield from _nonsense("board", to_data(board))
    for lost in board.if_lost:
        if lost.down == walk.sites[lost.site].answers:
            yield f"board: {lost.site} is said to be {'down' if lost.down else 'up'}"
        real = _comes_back(walk, lost)
        if lost.back != len(real):
            yield f"board: {lost.back} of {lost.site} would be back; {sorted(real)} come back by {lost.plans}"
        if not lost.back and lost.plans:
            yield f"board: nothing would be back, and {lost.plans} are named"
        if lost.back and lost.about_s is None:
            yield "board: the headline breaks off, there is no forecast"


def _comes_back(walk: Walk, lost: IfLost) -> set[str]:
    """What really comes up of it, with the plans that are named, or with any where none is."""
    now, back = walk.clock.now(), set()
    tried = truth.Trial(walk.sites, lost.site, now)
    around = Surroundings(now)
    for code in lost.plans or around.plans:
        ctx = around.context(around.plans[code], around.versions[code].number)
        judged = judge(ctx, RECOVERY, whole=True)
        blocked = [one for one in judged.blocking if one.code != "run-in-the-way"]
        if ctx.plan.source == lost.site and not blocked and judged.inputs is not None:
            back |= tried.play(judged.inputs)
    return back


def _groups(walk: Walk) -> Iterator[str]:
    seen = overview(walk.clock.now())
    yield from _nonsense("groups", to_data(seen))
    for line in seen.groups:
        site = walk.sites[line.target]
        if not site.answers:
            continue
        writable = any(truth.promoted(one, line.code) for one in walk.sites.values())
        said = line.health.condition
        if writable and said in ("lagging", "healthy", "failing", "stalled"):
            yield f"groups: {line.code} is {said}, and it runs elsewhere: {line.stage}"
        at = truth.newest(site, line.code)
        if said == "healthy":
            age = (walk.clock.now() - at).total_seconds() if at else None
            if age is None or age > line.policy.rpo_s:
                yield f"groups: {line.code} is healthy, its newest point {age} s old"


def _runs(walk: Walk) -> Iterator[str]:
    names = dict(Site.objects.values_list("code", "name"))
    for run in Run.objects.filter(last_seq__gt=0):
        with current(run.pk) as state:
            said = status(run.pk, state, names, walk.clock.now())
        yield from _nonsense(f"run {run.pk}", to_data(said))
        if run.outcome:
            if said.lost_sites:
                yield f"run {run.pk} ended, and still says that {list(said.lost_sites)} is unreachable"
            if said.outages and run.outcome == "rolled back":
                for one in said.outages:
                    if one.to_s is None and truth.answering(walk.sites, one.workload):
                        yield f"run {run.pk} was rolled back, {one.service} answers and is said to be away"
            continue
        source, target = walk.sites[said.source], walk.sites[said.target]
        for used in said.groups:
            members = next(c.members for c in state.inputs.groups if c.code == used.group)
            if used.writable == said.target and not truth.promoted(target, used.group):
                yield f"run {run.pk}: {used.group} is said to be writable at {said.target}"
            if source.answers:
                really = [name for name in members if name in truth.fenced(source)]
                if run.kind in ("planned", "disaster") and used.fenced != len(really):
                    yield f"run {run.pk}: {used.fenced} of {used.group} fenced; {len(really)} are"
        if run.kind in ("planned", "disaster"):
            for one in said.outages:
                if (
                    one.to_s is None
                    and target.answers
                    and source.answers
                    and truth.answering(walk.sites, one.workload)
                ):
                    yield f"run {run.pk}: {one.service} answers and is said to be away"
                if (
                    one.to_s is not None
                    and not any(o.to_s is None and o.workload == one.workload for o in said.outages)
                    and not truth.answering(walk.sites, one.workload)
                    and target.answers
                ):
                    yield f"run {run.pk}: {one.service} does not answer and is said to be back"
