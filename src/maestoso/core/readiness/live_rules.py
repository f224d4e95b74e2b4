"""Rules that are only about runs that move production, or about groups that are on their way."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from maestoso.core.model.finding import Finding, blocks, note, warns
from maestoso.core.planning.inputs import LIVE, Kind
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.room_rules import little_room, no_standby
from maestoso.core.replication.health import health
from maestoso.core.replication.lifecycle import is_copied

STAGE_MENDS = {
    "seeding": "Wait for its first copy.",
    "failing over": "Let the run that moves it end, or abort it.",
    "running uncommitted": "Commit that run, or roll it back.",
    "running committed": "Re-protect it first.",
    "re-protecting": "Wait until the differences are copied.",
}


def group_on_its_way(ctx: Context) -> Iterator[Finding]:
    """Only a group that is protected can be tested or failed over."""
    names = {group.code: group.name for group in ctx.groups}
    for code in ctx.planned_groups:
        stage = ctx.stages.get(code, "protected")
        if not is_copied(stage):
            yield blocks("group-not-protected", code, f"{names[code]} is {stage}.", STAGE_MENDS[stage])


def group_split(ctx: Context) -> Iterator[Finding]:
    """A group moves as a whole: members that the plan leaves out would lose their copies under them."""
    members = set(ctx.plan.workloads())
    groups = {group.code: group for group in ctx.groups}
    for code in ctx.planned_groups:
        outside = [name for name in groups[code].members if name not in members]
        if outside:
            found = note(
                "group-split",
                code,
                (
                    f"In a live run: {groups[code].name} also holds {', '.join(outside)}, "
                    "which the plan leaves out."
                ),
                "Add them to the plan (left off if nobody needs them), or remove them from the group.",
            )
            yield replace(found, live="blocks")


def run_in_the_way(ctx: Context) -> Iterator[Finding]:
    """Two runs at once must not fight for one workload."""
    found: dict[str, list[str]] = {}
    for name in dict.fromkeys(ctx.plan.workloads()):
        if name in ctx.busy:
            found.setdefault(ctx.busy[name], []).append(name)
    for run, names in found.items():
        more = f" and {len(names) - 3} more" if len(names) > 3 else ""
        yield blocks(
            "run-in-the-way",
            run,
            f"{run[0].upper()}{run[1:]} is still at work with {', '.join(names[:3])}{more}.",
            "Let it end, or abort it.",
        )


def source_running(ctx: Context) -> Iterator[Finding]:
    """Two live copies of one workload: the worst that can be, so it is said before anything else."""
    for name, site in ctx.split.items():
        yield blocks(
            "split-brain",
            name,
            f"A copy of {name} was found running at {site}, beside the one that was failed over.",
            "It was turned off and fenced. See what it wrote, then say on the board that it was seen.",
        )


def live_only(ctx: Context, kind: Kind, decide_within_s: int = 0) -> Iterator[Finding]:
    """What stands in the way of one kind of live run."""
    if kind not in LIVE:
        return
    source = ctx.plan.source
    if source in ctx.lost_sites:
        if kind == "planned":
            yield blocks(
                "source-unreachable",
                source,
                f"A planned failover needs both sites; {source} does not answer: {ctx.lost_sites[source]}",
                "Bring its agent back, or choose a disaster failover.",
            )
        else:
            yield warns(
                "source-unreachable",
                source,
                f"{source} does not answer, so nobody can say whether its copies still run.",
                "You will be asked to acknowledge it. Fences are kept and delivered when it answers.",
            )
    yield from _still_seeding(ctx, kind)
    longest = max((m.ready_timeout_s for _, m in ctx.plan.members() if m.power_on), default=0)
    if 0 < decide_within_s < min(longest, 300):
        yield warns(
            "decision-window-short",
            ctx.plan.code,
            f"The decision window of {decide_within_s} s is shorter than a look at the services takes.",
            f"Give at least {min(longest, 300)} s.",
        )


def _still_seeding(ctx: Context, kind: Kind) -> Iterator[Finding]:
    """A group without a whole first copy. In a disaster what is there may be all that is left."""
    groups = {group.code: group for group in ctx.groups}
    say = blocks if kind == "planned" else warns
    for code in ctx.planned_groups:
        if ctx.stages.get(code) == "seeding":
            group = groups[code]
            refused = ctx.refused.get(code, "")
            how = health(group, ctx.copying.get(code), ctx.now, stage="seeding", refused=refused).sentence
            yield say(
                "group-seeding", code, f"{group.name} is not protected yet. {how}", STAGE_MENDS["seeding"]
            )


def reprotect_findings(ctx: Context) -> tuple[Finding, ...]:
    """What stands in the way of copying the groups of a plan in the other direction."""
    found = []
    committed = [code for code in ctx.planned_groups if ctx.stages.get(code) == "running committed"]
    if not committed:
        found.append(
            blocks(
                "nothing-to-reprotect",
                ctx.plan.code,
                "There is no group of this plan that was failed over, committed and not protected since.",
                "Re-protect after a committed failover.",
            )
        )
    for site in (ctx.plan.source, ctx.plan.target):
        if site in ctx.lost_sites:
            found.append(
                blocks(
                    "site-unreachable",
                    site,
                    f"{site} does not answer: {ctx.lost_sites[site]}",
                    "Bring its agent back; re-protecting needs both sites.",
                )
            )
    return (*found, *little_room(ctx), *no_standby(ctx))
