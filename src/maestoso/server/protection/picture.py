"""Groups and their copies as the API shows them."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime

from django.core.cache import cache

from maestoso.core.errors import BadValue
from maestoso.core.estate.uses import gaps
from maestoso.core.model.protection import ChangeRate, Group, RecoveryPoint
from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.core.replication.anomaly import clean_point_hint, judged, scored
from maestoso.core.replication.cost import GIB, PolicyCost, policy_cost
from maestoso.core.replication.health import causes, health
from maestoso.core.replication.throttle import narrowest_bps
from maestoso.core.wording import counted
from maestoso.server.common.hooks import Hook
from maestoso.server.estate.agents import LARGE_PATIENCE_S, Pulse, ask, needed, pulse
from maestoso.server.estate.models import Link, Site, WorkloadRow
from maestoso.server.estate.services import find_link, find_site
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.services import newest_versions
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import (
    check_group,
    find_group,
    keys_missing,
    matching,
    named_members,
    rows_and_groups,
)
from maestoso.server.protection.shapes import (
    CoverageGap,
    GroupDetail,
    GroupLine,
    LeftOut,
    LinkUse,
    Protection,
)
from maestoso.sites.client import HttpSite

SERIES_EVERY_S = 600
AT_ONCE = 8
"""Groups whose points a site is asked for at the same time."""
POINTS_PATIENCE_S = 15.0
"""Whoever wants to choose one, or presses a start, would rather wait for a slow site than ask again."""
GAPS_SHOWN = 200
LAG_EVERY_S = 300
THINNED_BY = 3
LAGS_KEPT_S = 60
ORDER = (
    "unprotected", "in clear", "refused", "stalled", "unknown", "failing", "lagging", "paused", "waiting",
    "seeding", "moving", "healthy",
)  # fmt: skip
UNCOPIED = ("running committed", "re-protecting")
"""Stages in which there are no points to recover from."""


def overview(now: datetime, find: str = "", most: int | None = None, reach: Reach = EVERYTHING) -> Protection:
    """The whole page, or what of it is within reach.

    Of groups whose name holds ``find`` the ``most`` in trouble come first.
    """
    sites = {site.code: site for site in Site.objects.all()}
    pulses = {code: pulse(site) for code, site in sites.items()}
    groups = [pair for pair in rows_and_groups() if reach.has("group", pair[1].code)]
    missing = keys_missing()
    lines = tuple(_line(row, group, pulses[group.target], now, missing) for row, group in groups)
    found = causes((group, line.health) for (_, group), line in zip(groups, lines, strict=True))
    known = {name: row for name, row in estate().rows.items() if reach.has("workload", name)}
    stages = {row.code: row.stage for row, _ in groups}
    gaps_of_all = coverage([group for _, group in groups], pulses, stages)
    open_gaps = [gap for gap in gaps_of_all if reach.has("workload", gap.workload)]
    # What runs away without being copied back is in a group and not protected.
    copied = {row.code for row, _ in groups if row.stage not in UNCOPIED}
    protected = sum(1 for row in known.values() if row.group in copied)
    return Protection(
        now=now, sentence=_sentence(lines, len(known), protected), groups=_shown(lines, sites, find, most),
        causes=found, all_groups=len(lines),
        links=_links(groups, pulses), gaps=tuple(open_gaps[:GAPS_SHOWN]), protected=protected,
        workloads=len(known),
    )  # fmt: skip


def _shown(
    lines: Sequence[GroupLine], sites: dict[str, Site], find: str, most: int | None
) -> tuple[GroupLine, ...]:
    """Those asked for, with their lags; in trouble first where there are more than are shown."""
    asked = [line for line in lines if find.lower() in f"{line.name} {line.code}".lower()]
    if most is not None and len(asked) > most:
        asked = sorted(asked, key=lambda line: ORDER.index(line.health.condition))[:most]
    if most is None:
        return tuple(asked)
    return tuple(replace(line, lags=thinned_lags(sites[line.target], line.code)) for line in asked)


def lags(site: Site) -> dict[str, tuple[float, ...]]:
    """How far behind the groups of a site were; empty where it says nothing. Remembered for a minute."""
    key = f"lags:{site.pk}:{site.agent_url}"
    known: dict[str, tuple[float, ...]] | None = cache.get(key)
    if known is None:
        try:
            known = ask(site, lambda agent: agent.lags()).groups
        except (SiteUnreachable, SiteRefused):
            return {}
        cache.set(key, known, LAGS_KEPT_S)
    return known


def thinned_lags(site: Site, group: str) -> tuple[float, ...]:
    """The worst of every so many, so that a page of groups stays small; reckoned once while lags are kept."""
    key = f"thinned:{site.pk}:{site.agent_url}:{group}"
    known: tuple[float, ...] | None = cache.get(key)
    if known is None:
        behind = lags(site).get(group, ())
        known = tuple(max(behind[at : at + THINNED_BY]) for at in range(0, len(behind), THINNED_BY))
        cache.set(key, known, LAGS_KEPT_S)
    return known


def _line(row: GroupRow, group: Group, taken: Pulse, now: datetime, missing: frozenset[str]) -> GroupLine:
    state = taken.copying.get(group.code)
    return GroupLine(
        code=group.code, name=group.name, source=group.source, target=group.target, stage=row.stage,
        members=len(group.members), policy=group.policy,
        health=health(group, state, now, taken.lost_because or "", row.stage, row.refused),
        lags=(), lag_every_s=LAG_EVERY_S * THINNED_BY,
        rate_bps=state.rate_bps if state else 0.0, change_bps=state.change_bps if state else 0.0,
        backlog_bytes=state.backlog_bytes if state else 0,
        seeded_share=min(state.seeded_bytes / state.seed_bytes, 1.0) if state and state.seed_bytes else 1.0,
        points=state.kept_points if state else 0, key_missing=group.code in missing,
    )  # fmt: skip


def _sentence(lines: Sequence[GroupLine], workloads: int, protected: int) -> str:
    if not workloads:
        return "There is nothing to protect yet. Import the estate first."
    if not lines:
        return f"None of {workloads} workloads is protected: there is no group yet."
    is_or_are = "is" if protected == 1 else "are"
    of_all = f"{protected} of {counted(workloads, 'workload')}"
    many = sum(1 for line in lines if line.stage not in UNCOPIED)
    groups = "one group" if many == 1 else f"{many} groups" if many else "no group"
    first = f"{of_all} {is_or_are} protected, in {groups}."
    bad = [line.name for line in lines if line.health.condition not in ("healthy", "moving")]
    moving = [line.name for line in lines if line.health.condition == "moving"]
    well = len(lines) - len(bad) - len(moving)
    said = [first]
    if not bad and not moving:
        said.append(f"{'Every group' if len(lines) > 1 else 'It'} is within its objective.")
    elif well:
        said.append("One is within its objective." if well == 1 else f"{well} are within their objective.")
    if moving:
        said.append(f"{_some(moving)} {'is' if len(moving) == 1 else 'are'} being failed over.")
    if bad:
        said.append(f"Look at {_some(bad)}.")
    return " ".join(said)


def _some(names: Sequence[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def _links(groups: Sequence[tuple[GroupRow, Group]], pulses: dict[str, Pulse]) -> tuple[LinkUse, ...]:
    found = []
    for link in Link.objects.select_related("one", "other").order_by("id"):
        for source, target in ((link.one.code, link.other.code), (link.other.code, link.one.code)):
            count = sum(1 for _, group in groups if (group.source, group.target) == (source, target))
            said = pulses[target].said
            state = next((s for s in said.links if s.source == source), None) if said else None
            if count:
                found.append(
                    LinkUse(
                        source=source, target=target, bandwidth_bps=link.bandwidth_bps / 8, groups=count,
                        room_bps=state.room_bps if state else 0.0, used_bps=state.used_bps if state else 0.0,
                        cut_because=state.cut_because if state else pulses[target].lost_because or "",
                    )
                )  # fmt: skip
    return tuple(found)


def coverage(
    groups: Sequence[Group], pulses: dict[str, Pulse], stages: Mapping[str, str]
) -> list[CoverageGap]:
    """What is not safe: needed by protected workloads first, then members without a point, then the rest."""
    ruled: dict[str, list[str]] = {}
    for group in groups:
        if group.tag_rule:
            for name in matching(group):
                ruled.setdefault(name, []).append(group.name)
    found = []
    for gap in gaps(estate().rows.values()):
        both = ruled.get(gap.workload, [])
        reason = f"the rules of {' and '.join(both)} both match it" if len(both) > 1 else "in no group"
        found.append(
            CoverageGap(
                workload=gap.workload,
                site=gap.site,
                reason=reason,
                needed_by=gap.needed_by,
                needs=gap.needs,
                group="",
            )
        )
    newest = {code: taken.newest for code, taken in pulses.items()}
    for group in groups:
        if pulses[group.target].lost_because is None and group.code not in newest[group.target]:
            found += [
                CoverageGap(
                    workload=name,
                    site=group.source,
                    reason="runs there, and nothing copies it"
                    if stages[group.code] in UNCOPIED
                    else "no recovery point yet",
                    needed_by=(),
                    needs=(),
                    group=group.code,
                )
                for name in group.members
            ]
    return sorted(found, key=lambda gap: (not gap.needed_by, gap.reason == "in no group"))


Held = tuple[tuple[RecoveryPoint, ...], tuple[ChangeRate, ...]]


def group_points(site: Site, group: str) -> Held:
    """Points and change rates of a group with their anomalies. Raises SiteUnreachable or SiteRefused."""
    return points_of(site, (group,))[group]


def points_of(site: Site, groups: Sequence[str]) -> dict[str, Held]:
    """The same of several groups, asked for some at once."""

    async def all_of(agent: HttpSite) -> list[Held]:
        gate = asyncio.Semaphore(AT_ONCE)

        async def one(group: str) -> Held:
            async with gate:
                return await agent.points(group)

        return await asyncio.gather(*map(one, groups))

    said = ask(site, all_of, POINTS_PATIENCE_S if len(groups) == 1 else LARGE_PATIENCE_S)
    return {group: _with_anomalies(*held) for group, held in zip(groups, said, strict=True)}


def _with_anomalies(held: Sequence[RecoveryPoint], rates: Sequence[ChangeRate]) -> Held:
    series = scored(rates, SERIES_EVERY_S)
    return judged(held, series, SERIES_EVERY_S), series


def detail(code: str, now: datetime) -> GroupDetail:
    """One group."""
    row = find_group(code)
    group, taken = row.core(), pulse(row.target)
    state = taken.copying.get(code)
    points: tuple[RecoveryPoint, ...] = ()
    series: tuple[ChangeRate, ...] = ()
    if state is not None:
        try:
            points, series = group_points(row.target, code)
        except (SiteUnreachable, SiteRefused):
            state = None
    hint = clean_point_hint(points)
    workloads = WorkloadRow.objects.filter(membership__group=row)
    return GroupDetail(
        group=group, named=named_members(row).members, revision=row.revision,
        line=_line(row, group, taken, now, keys_missing()), now=now, points=points, changes=series,
        hint=hint.id if hint else None, proved=proved(code), key_stored=bool(row.key),
        key_fingerprint=row.key_fingerprint,
        left_out=tuple(
            LeftOut(workload=w.name, disk=disk["name"], because=disk["left_out_because"])
            for w in workloads
            for disk in w.spec["disks"]
            if disk["left_out_because"]
        ),
        paused_because=state.paused_because if state else "", kept_bytes=state.kept_bytes if state else 0,
        plan=_plan_of_alone(group),
    )  # fmt: skip


def _plan_of_alone(group: Group) -> str:
    """A group alone is failed over by a plan that holds it and nothing else; empty where there is none."""
    members = set(group.members)
    plans = (version.core() for version in newest_versions()) if members else ()
    return next((plan.code for plan in plans if set(plan.workloads()) == members), "")


def held_point(site: Site, group: str, wanted: str, field: str) -> RecoveryPoint:
    """The point of that id, as a site holds it. Raises BadValue with ``field``, Refused where it is away."""
    with needed(f"{site.name} does not say which points it holds"):
        held, _ = group_points(site, group)
    point = next((one for one in held if one.id == wanted), None)
    if point is None:
        raise BadValue(
            f"{wanted[:60]!r} is not a recovery point of {group} that {site.name} holds.",
            "Choose one of its points.",
            field=field,
        )
    return point


points_proved: Hook[[str], Mapping[str, int]] = Hook()
"""Points of a group from which a test passed, with the run."""


def proved(group: str) -> dict[str, int]:
    """Points from which a test passed, with the run."""
    return {point: run for found in points_proved(group) for point, run in found.items()}


def cost(group: Group, now: datetime) -> PolicyCost:
    """What a group as it is being edited would cost, from what its source measured."""
    check_group(group)
    source = find_site(group.source)
    members = {*group.members, *(matching(group) if group.tag_rule.strip() else ())}
    with needed(f"{source.name} does not say how fast its workloads change"):
        rates = {one.workload: one for one in ask(source, lambda agent: agent.change_rates())}
    asked = [rates[name] for name in members if name in rates]
    rows = estate().rows
    link = find_link(group.source, group.target)
    taken = pulse(find_site(group.target))
    others = sum(
        state.change_bps
        for state in taken.copying.values()
        if state.source == group.source and state.group != group.code
    )
    return policy_cost(
        group.policy,
        mean_bps=sum(one.mean_bps for one in asked), peak_bps=sum(one.peak_bps for one in asked),
        size_bytes=sum(rows[name].size_gib for name in members if name in rows) * GIB,
        room_bps=narrowest_bps(link.core()) if link else 0.0, others_bps=others, now=int(now.timestamp()),
    )  # fmt: skip
