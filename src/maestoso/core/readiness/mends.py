"""Findings that one change of the plan mends: what the change is called, and the plan with it.

A mend changes the plan as people edit it. What is wrong inside a part is mended in that part's own plan.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from maestoso.core.model.cue import Cue
from maestoso.core.model.finding import Finding
from maestoso.core.model.plan import MAX_DELAY_S, Member, Plan, Wave
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.cue_rules import workload_at

Mend = Callable[[Context, Finding], Plan]


def fixed(ctx: Context, finding: Finding) -> Plan | None:
    """The plan with the finding mended; None where no change of this plan mends it."""
    entry = MENDS.get(finding.code)
    made = entry[1](ctx, finding) if entry else ctx.authored
    return made if made != ctx.authored else None


def label(ctx: Context, finding: Finding) -> str:
    """What one press would do; empty where :func:`fixed` has nothing to do."""
    entry = MENDS.get(finding.code)
    return entry[0] if entry and fixed(ctx, finding) is not None else ""


def _each_member(plan: Plan, change: Callable[[int, Member], Member | None]) -> Plan:
    """Every member changed, or taken out where ``change`` gives None."""
    waves = []
    for index, wave in enumerate(plan.waves):
        changed = (change(index, member) for member in wave.members)
        waves.append(replace(wave, members=tuple(member for member in changed if member is not None)))
    return replace(plan, waves=tuple(waves))


def _each_cue(plan: Plan, change: Callable[[Cue], Cue | None]) -> Plan:
    def changed(cues: tuple[Cue, ...]) -> tuple[Cue, ...]:
        return tuple(cue for cue in map(change, cues) if cue is not None)

    waves = tuple(
        replace(
            wave,
            cues=changed(wave.cues),
            members=tuple(replace(member, cues=changed(member.cues)) for member in wave.members),
        )
        for wave in plan.waves
    )
    return replace(plan, cues=changed(plan.cues), waves=waves)


def _wave_of(plan: Plan, workload: str) -> int | None:
    return next((wave for wave, member in plan.members() if member.workload == workload), None)


def _moved(plan: Plan, workload: str, to: int) -> Plan:
    member = next((member for _, member in plan.members() if member.workload == workload), None)
    if member is None:
        return plan
    without = _each_member(plan, lambda _, one: None if one.workload == workload else one)
    waves = list(without.waves)
    waves[to] = replace(waves[to], members=(*waves[to].members, member))
    return replace(without, waves=tuple(waves))


def _waiting(plan: Plan, workload: str, on: str) -> Plan:
    def change(_: int, member: Member) -> Member:
        if member.workload != workload or on in member.depends_on:
            return member
        return replace(member, depends_on=(*member.depends_on, on))

    return _each_member(plan, change)


def _keep_first(ctx: Context, finding: Finding) -> Plan:
    seen: list[str] = []

    def change(_: int, member: Member) -> Member | None:
        if member.workload == finding.subject and finding.subject in seen:
            return None
        seen.append(member.workload)
        return member

    return _each_member(ctx.authored, change)


def _take_out(ctx: Context, finding: Finding) -> Plan:
    def change(_: int, member: Member) -> Member | None:
        if member.workload == finding.subject:
            return None
        return replace(member, depends_on=tuple(n for n in member.depends_on if n != finding.subject))

    return _each_member(ctx.authored, change)


def _drop_dependency(ctx: Context, finding: Finding) -> Plan:
    def change(_: int, member: Member) -> Member:
        if member.workload != finding.subject:
            return member
        return replace(member, depends_on=tuple(n for n in member.depends_on if n not in finding.others))

    return _each_member(ctx.authored, change)


def _provider_earlier(ctx: Context, finding: Finding) -> Plan:
    """The provider comes to the wave of who uses it, and that waits for it."""
    plan = ctx.authored
    here = _wave_of(plan, finding.subject)
    for provider in finding.others:
        if here is not None and _wave_of(plan, provider) is not None:
            plan = _waiting(_moved(plan, provider, here), finding.subject, provider)
    return plan


def _other_to_here(ctx: Context, finding: Finding) -> Plan:
    plan, here = ctx.authored, _wave_of(ctx.authored, finding.subject)
    for other in finding.others:
        if here is not None:
            plan = _moved(plan, other, here)
    return plan


def _ready_otherwise(ctx: Context, finding: Finding) -> Plan:
    def change(_: int, member: Member) -> Member:
        if member.workload != finding.subject:
            return member
        offers = member.workload in ctx.workloads and ctx.workloads[member.workload].offers
        return replace(member, ready="checks" if offers else "powered-on")

    return _each_member(ctx.authored, change)


def _times_in_range(ctx: Context, finding: Finding) -> Plan:
    def change(_: int, member: Member) -> Member:
        return replace(
            member,
            delay_s=min(max(member.delay_s, 0), MAX_DELAY_S),
            ready_timeout_s=min(max(member.ready_timeout_s, 1), MAX_DELAY_S),
        )

    return _each_member(ctx.authored, change)


def _longer(ctx: Context, finding: Finding) -> Plan:
    def change(_: int, member: Member) -> Member:
        same = member.workload == finding.subject
        return replace(member, ready_timeout_s=int(finding.part)) if same else member

    return _each_member(ctx.authored, change)


def _take_in_text(ctx: Context, finding: Finding) -> Plan:
    def change(cue: Cue) -> Cue:
        call = cue.script
        if call is None or cue.id != finding.subject or call.script not in ctx.scripts:
            return cue
        return replace(cue, script=replace(call, sha256=ctx.scripts[call.script].sha256))

    return _each_cue(ctx.authored, change)


def _cue_out(ctx: Context, finding: Finding) -> Plan:
    return _each_cue(ctx.authored, lambda cue: None if cue.id == finding.subject else cue)


def _aim_at_workload(ctx: Context, finding: Finding) -> Plan:
    def change(cue: Cue) -> Cue:
        if cue.probe is None or cue.id != finding.subject:
            return cue
        name = workload_at(ctx, cue.probe.address)
        return replace(cue, probe=replace(cue.probe, workload=name, address=""))

    return _each_cue(ctx.authored, change)


def _take_in(ctx: Context, finding: Finding) -> Plan:
    """A new member joins the wave that the finding names, or the wave of the first who uses it."""
    plan = ctx.authored
    if finding.subject in plan.workloads() or not plan.waves:
        return plan

    def grown(wave: Wave) -> Wave:
        if wave.name != finding.part:
            return wave
        return replace(wave, members=(*wave.members, Member(workload=finding.subject)))

    return replace(plan, waves=tuple(map(grown, plan.waves)))


def _part_out(ctx: Context, finding: Finding) -> Plan:
    kept = tuple(part for part in ctx.authored.parts if part.plan != finding.subject)
    return replace(ctx.authored, parts=kept)


def _part_once(ctx: Context, finding: Finding) -> Plan:
    kept = {part.plan: part for part in reversed(ctx.authored.parts)}
    return replace(ctx.authored, parts=tuple(part for part in ctx.authored.parts if kept[part.plan] is part))


MENDS: Mapping[str, tuple[str, Mend]] = {
    "member-twice": ("Keep the first", _keep_first),
    "workload-unknown": ("Remove it", _take_out),
    "member-without-group": ("Remove it", _take_out),
    "tag-no-longer": ("Remove it", _take_out),
    "tag-brings": ("Add it", _take_in),
    "dependency-cycle": ("Drop this dependency", _drop_dependency),
    "dependency-outside": ("Drop the dependency", _drop_dependency),
    "waits-for-later-wave": ("Move what it waits for here", _other_to_here),
    "service-comes-later": ("Bring it up before", _provider_earlier),
    "dns-comes-later": ("Bring it up before", _provider_earlier),
    "heartbeat-without-agent": ("Let its checks decide", _ready_otherwise),
    "delay-out-of-range": ("Bring it into range", _times_in_range),
    "timeout-out-of-range": ("Bring it into range", _times_in_range),
    "ready-timeout-short": ("Give it longer", _longer),
    "script-changed": ("Use the new text", _take_in_text),
    "script-missing": ("Remove the cue", _cue_out),
    "cue-aims-outside": ("Remove the cue", _cue_out),
    "probe-address-moves": ("Aim it at the workload", _aim_at_workload),
    "part-missing": ("Remove the part", _part_out),
    "part-other-way": ("Remove the part", _part_out),
    "part-twice": ("Remove the second", _part_once),
    "part-circle": ("Remove the part", _part_out),
}
"""By code: what the press is called, and what it does."""
