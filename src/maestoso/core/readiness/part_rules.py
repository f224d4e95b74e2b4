"""Rules about what a plan takes in from elsewhere: other plans, and workloads by their tags."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.errors import BadValue
from maestoso.core.estate.filter import compile_filter
from maestoso.core.model.finding import Finding, blocks, note, warns
from maestoso.core.readiness.context import Context


def parts_hold(ctx: Context) -> Iterator[Finding]:
    """Parts must be plans of the same direction that do not contain this plan."""
    if ctx.laid is None:
        return
    for code in ctx.laid.missing:
        said = f"{ctx.plan.name} contains the plan {code}, which does not exist."
        yield blocks("part-missing", code, said, "Remove the part, or make that plan.")
    for code in ctx.laid.other_way:
        said = f"The part {code} does not go from {ctx.plan.source} to {ctx.plan.target}."
        yield blocks("part-other-way", code, said, "Remove the part.")
    for code in ctx.laid.again:
        said = f"The part {code} is met more than once; its workloads come up with the first."
        yield warns("part-twice", code, said, "Remove one of the two.")
    if ctx.laid.circle:
        way = " contains ".join(ctx.laid.circle)
        yield blocks("part-circle", ctx.laid.circle[-1], f"{way}: this never ends.", "Remove a part.")


def arrives_twice(ctx: Context) -> Iterator[Finding]:
    """A workload in two parts comes up once, where it arrives first."""
    for one in ctx.laid.twice if ctx.laid else ():
        yield note(
            "arrives-twice",
            one.workload,
            f"{one.workload} arrives with {one.kept} and again with {one.dropped}; it comes up once, "
            f"with {one.kept}.",
            "Nothing to do, if that is the right place.",
        )


def in_other_plans(ctx: Context) -> Iterator[Finding]:
    """Two runs at once must not fight for one workload."""
    shared: dict[tuple[str, ...], list[str]] = {}
    for name in dict.fromkeys(ctx.plan.workloads()):
        if ctx.others.get(name):
            shared.setdefault(tuple(ctx.others[name]), []).append(name)
    for plans, names in shared.items():
        listed = names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
        yield note(
            "workload-in-two-plans",
            names[0],
            f"{listed} {'is' if len(names) == 1 else 'are'} also in {' and '.join(plans)}.",
            "Runs of both at once are refused; make one of them part of the other if they belong together.",
        )


def tag_brings(ctx: Context) -> Iterator[Finding]:
    """Workloads that a wave's rule names and that are not in the plan, and those it no longer names."""
    inside = set(ctx.plan.workloads())
    first = len(ctx.plan.waves) - len(ctx.authored.waves)
    for index, wave in enumerate(ctx.authored.waves, first):
        if not wave.tag_rule.strip():
            continue
        try:
            fits = compile_filter(wave.tag_rule)
        except BadValue as error:
            said = f"The tag rule of wave {index + 1} cannot be read: {error.sentence}"
            yield blocks("tag-rule-unreadable", wave.name, said, error.remedy)
            continue
        for row in ctx.rows.values():
            if row.site == ctx.plan.source and row.name not in inside and fits(row):
                yield warns(
                    "tag-brings",
                    row.name,
                    f"{row.name} matches {wave.tag_rule} of wave {index + 1} and is not in the plan.",
                    f"Add it to wave {index + 1}.",
                    part=wave.name,
                )
        for member in wave.members:
            known = ctx.rows.get(member.workload)
            if known is not None and not fits(known):
                yield note(
                    "tag-no-longer",
                    member.workload,
                    f"{member.workload} is in wave {index + 1} and does not match its rule {wave.tag_rule}.",
                    "Remove it, if its tag was what brought it in.",
                )
