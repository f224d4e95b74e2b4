"""Rules about the copies that a run would use."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping
from dataclasses import replace

from maestoso.core.model.finding import Finding, blocks, note, warns
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.readiness.context import Context
from maestoso.core.replication.health import causes, health
from maestoso.core.replication.lifecycle import is_copied

MOST_SKEW_S = 2.0
OUTAGES_SINCE = 1
"""The minor version of the site protocol with which agents say what services answer."""


def member_without_group(ctx: Context) -> Iterator[Finding]:
    """What is not copied cannot be recovered; nor what is copied the other way, from where it runs now."""
    away: dict[str, list[str]] = {}
    turned = {
        name: group
        for group in ctx.groups
        if (group.source, group.target) == (ctx.plan.target, ctx.plan.source)
        for name in group.members
    }
    for _, _, workload in ctx.known_members:
        if workload.name in turned:
            away.setdefault(turned[workload.name].name, []).append(workload.name)
        elif ctx.group_of(workload.name) is None:
            yield blocks(
                "member-without-group",
                workload.name,
                (
                    f"{workload.name} is in no group that is copied from {ctx.plan.source} "
                    f"to {ctx.plan.target}, so there is nothing to recover it from."
                ),
                "Protect it in a group, or remove it from the plan.",
            )
    for group, names in away.items():
        yield blocks(
            "member-without-group",
            group,
            f"{group} runs at {ctx.plan.target} now, with {', '.join(names)}.",
            f"Bring it home to {ctx.plan.source} with a plan that holds nothing else.",
        )


def group_without_point(ctx: Context) -> Iterator[Finding]:
    """A group without a point has never been copied whole."""
    names = {group.code: group.name for group in ctx.groups}
    if ctx.plan.target in ctx.lost_sites:
        # Nobody knows what it holds; that it does not answer is said by itself.
        return
    for code in ctx.planned_groups:
        # One that runs at its target has none by intent; what to do about that is said elsewhere.
        if code not in ctx.newest and is_copied(ctx.stages.get(code, "protected")):
            yield blocks(
                "group-without-point",
                code,
                f"No recovery point of {names[code]} is known.",
                "Wait for its first point, or see why its replication fails.",
            )


def lag_over_rpo(ctx: Context) -> Iterator[Finding]:
    """The newest point should be no older than the RPO objective of the group's policy."""
    groups = {group.code: group for group in ctx.groups}
    for code in ctx.planned_groups:
        if code in ctx.newest and is_copied(ctx.stages.get(code, "protected")):
            lag_s = (ctx.now - ctx.newest[code].at).total_seconds()
            if lag_s > groups[code].policy.rpo_s:
                yield warns(
                    "lag-over-rpo",
                    code,
                    (
                        f"The newest point of {groups[code].name} is {math.ceil(lag_s)} s old; "
                        f"its objective is {groups[code].policy.rpo_s} s."
                    ),
                    "See on the page Protection what is in its way.",
                )


def copying_in_trouble(ctx: Context) -> Iterator[Finding]:
    """Points get older while copying is paused, stalled, failing, or still at its first copy."""
    groups = {group.code: group for group in ctx.groups}
    codes = {
        "paused": "replication-paused",
        "failing": "replication-failing",
        "seeding": "members-not-copied-yet",
        "refused": "group-refused",
    }
    mends = {
        "paused": "Resume copying, or accept that the points get older.",
        "failing": "See why its cycles fail.",
        "seeding": "Wait for the first copy; a run takes what the newest point holds.",
        "refused": "Change its policy, or have its site take it.",
    }
    asked = [groups[code] for code in ctx.planned_groups if code in ctx.copying]
    judged = [
        (
            group,
            health(
                group,
                ctx.copying[group.code],
                ctx.now,
                stage=ctx.stages.get(group.code, "protected"),
                refused=ctx.refused.get(group.code, ""),
            ),
        )
        for group in asked
    ]
    # What stalls many groups is said once for all of them.
    for cause in causes(judged):
        yield warns("replication-stalled", cause.cause, cause.sentence, "Bring the link or the site back.")
    for group, found in judged:
        if found.condition in codes:
            sentence = f"{group.name}: {found.sentence}"
            yield warns(codes[found.condition], group.code, sentence, mends[found.condition])


def key_missing(ctx: Context) -> Iterator[Finding]:
    """Encrypted copies cannot be opened without their key."""
    names = {group.code: group.name for group in ctx.groups}
    for code in ctx.planned_groups:
        if code in ctx.keys_missing:
            yield blocks(
                "key-missing",
                code,
                f"The copies of {names[code]} are encrypted and no key is stored.",
                "Store its key on the page of the group.",
            )


def points_apart(ctx: Context, apart: Mapping[str, RecoveryPoint]) -> Iterator[Finding]:
    """Members of a group are write-order consistent only at one point of it."""
    names = {group.code: group.name for group in ctx.groups}
    for name, point in apart.items():
        yield warns(
            "points-apart",
            name,
            f"{name} comes from {point.at:%d %b, %H:%M:%S} UTC, apart from the rest of "
            f"{names[point.group]}: what they wrote to each other in between does not fit together.",
            "Take one point for the whole group, unless only this copy is damaged.",
        )


def site_drifted(ctx: Context) -> Iterator[Finding]:
    """A plan made for records that are no longer true may not work."""
    for site in (ctx.plan.source, ctx.plan.target):
        if ctx.drifted.get(site, 0):
            yield warns(
                "inventory-drift",
                site,
                f"The agent of {site} differs from the records in {_things(ctx.drifted[site])}.",
                "Look at the differences and accept them.",
            )


def machines_not_taken_over(ctx: Context) -> Iterator[Finding]:
    """A machine that nobody knows here cannot be protected, and what needs it comes up without it."""
    for site in (ctx.plan.source, ctx.plan.target):
        odd = ctx.odd.get(site, ())
        if odd:
            more = f" So it is with {_things(len(odd) - 1)} more." if len(odd) > 1 else ""
            yield note(
                "machine-not-taken-over",
                site,
                f"{odd[0].name} of {site} is not taken over. {odd[0].why}{more}",
                "Correct it at the site.",
            )


def _things(count: int) -> str:
    return "one thing" if count == 1 else f"{count} things"


def clock_skewed(ctx: Context) -> Iterator[Finding]:
    """Points and logs of a site whose clock is off tell the wrong time."""
    for site, skew in ctx.skew_s.items():
        if abs(skew) > MOST_SKEW_S:
            way = "ahead" if skew > 0 else "behind"
            yield warns(
                "clock-skew",
                site,
                f"The clock of {site} is {abs(skew):.0f} s {way}.",
                "Set its clock; the age of its points is wrong by as much.",
            )


def agent_too_old(ctx: Context) -> Iterator[Finding]:
    """Only a live run needs what came with 1.1; another major version is another language."""
    for site, said in ctx.protocols.items():
        version = re.fullmatch(r"(\d{1,4})\.(\d{1,4})", said)
        if version is None or version[1] != "1":
            yield blocks(
                "agent-too-old",
                site,
                f"The agent of {site} speaks protocol {said[:20]!r}, and this release speaks 1.x.",
                "Install an agent that speaks it.",
            )
        elif int(version[2]) < OUTAGES_SINCE:
            found = note(
                "agent-too-old",
                site,
                f"The agent of {site} speaks protocol {said}: no outage there can be measured in a live run.",
                f"Install an agent that speaks 1.{OUTAGES_SINCE}.",
            )
            yield replace(found, live="warns")


def disk_left_out(ctx: Context) -> Iterator[Finding]:
    """A disk that is not copied will be missing."""
    for _, _, workload in ctx.known_members:
        for disk in workload.disks:
            if disk.left_out_because is not None:
                yield warns(
                    "disk-left-out",
                    workload.name,
                    f"{disk.name} of {workload.name} is not copied: {disk.left_out_because}.",
                    "Copy it, or make sure that nothing needs it.",
                )


def uses_what_stays_behind(ctx: Context) -> Iterator[Finding]:
    """A service that members use must come with them, or be where they go.

    One that stays at the source is lost with it: nobody protects it, no plan brings it, or another plan does
    and this one relies on it.
    """
    members = set(ctx.plan.workloads())
    users: dict[tuple[str, str], list[str]] = {}
    for _, _, workload in ctx.known_members:
        for used in workload.uses:
            provider = ctx.provider_of(used)
            if provider is None or provider[0].name in members:
                continue
            if ctx.site_of(provider[0].name) in (None, ctx.plan.source):
                users.setdefault((used, provider[0].name), []).append(workload.name)
    protected = {name: group for group in ctx.groups for name in group.members}
    for (used, name), asking in users.items():
        use = f"{' and '.join(asking)} {'uses' if len(asking) == 1 else 'use'} {used} of {name}"
        others = ctx.others.get(name, ())
        if others:
            yield warns(
                "relies-on-another-plan",
                name,
                f"{use}, which this plan does not bring up; {' and '.join(others)} does.",
                f"Make {others[0]} a part of this plan, or run it as well.",
            )
        elif name in protected:
            yield warns(
                "uses-what-stays-behind",
                name,
                f"{use}, which is copied in {protected[name].name} and brought up by no plan from "
                f"{ctx.plan.source} to {ctx.plan.target}.",
                f"Add {name} to the plan; it would stay behind at {ctx.plan.source}.",
            )
        else:
            yield warns(
                "uses-what-stays-behind",
                name,
                f"{use}, which is not protected.",
                f"Protect {name}; it would stay behind at {ctx.plan.source}.",
            )
