"""Rules about the plan itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from maestoso.core.errors import CycleFound
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.model.plan import (
    MAX_DELAY_S,
    MAX_NAME,
    MAX_OBJECTIVE_S,
    MAX_PARTS,
    MAX_TAGS,
    MAX_TEXT,
    MAX_WAVES,
)
from maestoso.core.planning.graph import topological_order
from maestoso.core.readiness.context import Context

MAX_CORES = 1024
MAX_MEMORY_MIB = 64 * 1024 * 1024


def nothing_in_it(ctx: Context) -> Iterator[Finding]:
    """A plan with no member that gets power has nothing to recover."""
    if not any(member.power_on for _, member in ctx.plan.members()):
        yield blocks(
            "plan-empty",
            ctx.plan.name,
            f"{ctx.plan.name} brings nothing up.",
            "Add workloads to its waves, or let those that are there have power.",
        )


def member_twice(ctx: Context) -> Iterator[Finding]:
    """A workload can stand in one place only."""
    for name, times in Counter(ctx.plan.workloads()).items():
        if times > 1:
            yield blocks(
                "member-twice",
                name,
                f"{name} stands in the plan {times} times.",
                "Keep it in one wave.",
            )


def member_unknown(ctx: Context) -> Iterator[Finding]:
    """Members must be in the estate."""
    for _, member in ctx.plan.members():
        if member.workload not in ctx.workloads:
            yield blocks(
                "workload-unknown",
                member.workload,
                f"{member.workload} is in the plan but not in the estate.",
                "Remove it from the plan, or fetch the site's inventory again.",
            )


def delay_out_of_range(ctx: Context) -> Iterator[Finding]:
    """Delays and time-outs must be times that can pass."""
    for _, member in ctx.plan.members():
        if not 0 <= member.delay_s <= MAX_DELAY_S:
            yield blocks(
                "delay-out-of-range",
                member.workload,
                f"The boot delay of {member.workload} is {member.delay_s} s.",
                f"Give 0 to {MAX_DELAY_S} s.",
            )
        if not 1 <= member.ready_timeout_s <= MAX_DELAY_S:
            yield blocks(
                "timeout-out-of-range",
                member.workload,
                f"The ready timeout of {member.workload} is {member.ready_timeout_s} s.",
                f"Give 1 to {MAX_DELAY_S} s.",
            )
        for what, value, most in (
            ("shutdown limit", member.shutdown_limit_s, MAX_DELAY_S),
            ("number of cores", member.cores, MAX_CORES),
            ("memory in MiB", member.memory_mib, MAX_MEMORY_MIB),
        ):
            if value is not None and not 1 <= value <= most:
                said = f"The {what} of {member.workload} is {value}."
                yield blocks("out-of-range", member.workload, said, f"Give 1 to {most}.")


def out_of_range(ctx: Context) -> Iterator[Finding]:
    """Objectives, names and counts must be such that a person could mean them."""
    plan = ctx.authored
    for what, value, least, most in (
        ("RTO objective", plan.rto_s, 1, MAX_OBJECTIVE_S),
        ("RPO objective", plan.rpo_s, 1, MAX_OBJECTIVE_S),
        ("drill interval", plan.drill_every_days, 1, 3660),
        ("number of waves", len(plan.waves), 0 if plan.parts else 1, MAX_WAVES),
        ("number of parts", len(plan.parts), 0, MAX_PARTS),
        ("number of tags", len(plan.tags), 0, MAX_TAGS),
    ):
        if not least <= value <= most:
            yield blocks("out-of-range", plan.code, f"The {what} is {value}.", f"Give {least} to {most}.")
    names = [("name", plan.name)]
    names += [("tag", tag) for tag in plan.tags]
    names += [(f"name of wave {index + 1}", wave.name) for index, wave in enumerate(plan.waves)]
    for what, text in names:
        if not 1 <= len(text.strip()) <= MAX_NAME:
            sentence = f"The {what} has {len(text)} characters."
            yield blocks("out-of-range", plan.code, sentence, f"Give 1 to {MAX_NAME} characters.")
    texts = [("notes", plan.notes), ("owner", plan.owner)]
    texts += [(f"tag rule of wave {index + 1}", wave.tag_rule) for index, wave in enumerate(plan.waves)]
    for what, text in texts:
        if len(text) > MAX_TEXT:
            sentence = f"The {what} has {len(text)} characters."
            yield blocks("out-of-range", plan.code, sentence, f"Give at most {MAX_TEXT}.")


def dependency_cycle(ctx: Context) -> Iterator[Finding]:
    """Members that wait for each other in a circle never start; the circle is named in order."""
    names = list(dict.fromkeys(ctx.plan.workloads()))
    after = {member.workload: member.depends_on for _, member in ctx.plan.members()}
    try:
        topological_order(names, {name: [d for d in after[name] if d in after] for name in names})
    except CycleFound as error:
        yield blocks(
            "dependency-cycle",
            error.cycle[0],
            error.sentence,
            error.remedy,
            others=(error.cycle[1 % len(error.cycle)],),
        )


def waits_for_later_wave(ctx: Context) -> Iterator[Finding]:
    """A member that waits for a later wave waits for what waits for it."""
    wave_of = {member.workload: wave for wave, member in ctx.plan.members()}
    for wave, member in ctx.plan.members():
        for other in member.depends_on:
            if wave_of.get(other, wave) > wave:
                yield blocks(
                    "waits-for-later-wave",
                    member.workload,
                    (
                        f"{member.workload} in wave {wave + 1} waits for {other}, "
                        f"which comes up only in wave {wave_of[other] + 1}."
                    ),
                    f"Move {other} to wave {wave + 1} or earlier, or drop the dependency.",
                    others=(other,),
                )


def dependency_outside(ctx: Context) -> Iterator[Finding]:
    """Waiting for what the plan does not bring up is waiting for nothing."""
    members = {member.workload: member for _, member in ctx.plan.members()}
    for _, member in ctx.plan.members():
        for other in member.depends_on:
            if other not in members:
                said = f"{member.workload} waits for {other}, which is not in this plan."
            elif not members[other].power_on:
                said = f"{member.workload} waits for {other}, which this plan leaves off."
            else:
                continue
            yield warns(
                "dependency-outside",
                member.workload,
                said + " It will not wait for it.",
                f"Bring {other} up in this plan, or drop the dependency.",
                others=(other,),
            )


def service_comes_later(ctx: Context) -> Iterator[Finding]:
    """A service that a member uses should be up before it."""
    wave_of = {member.workload: wave for wave, member in ctx.plan.members()}
    for wave, member, workload in ctx.known_members:
        for used in workload.uses:
            provider = ctx.provider_of(used)
            if provider and member.power_on and wave_of.get(provider[0].name, -1) > wave:
                name = provider[0].name
                yield warns(
                    "service-comes-later",
                    workload.name,
                    (
                        f"{workload.name} in wave {wave + 1} uses {used} of {name}, "
                        f"which comes up only in wave {wave_of[name] + 1}."
                    ),
                    f"Move {name} to an earlier wave.",
                    others=(name,),
                )


def heartbeat_without_agent(ctx: Context) -> Iterator[Finding]:
    """Without a guest agent no heartbeat will come."""
    for _, member, workload in ctx.known_members:
        if member.power_on and member.ready == "heartbeat" and not workload.guest_agent:
            yield blocks(
                "heartbeat-without-agent",
                workload.name,
                f"{workload.name} counts as ready by its heartbeat, but has no guest agent.",
                "Let it be ready by its checks or when it is powered on.",
            )


def checks_without_address(ctx: Context) -> Iterator[Finding]:
    """Services are asked over the network, and nobody knows where."""
    for _, member, workload in ctx.known_members:
        asked = member.power_on and member.ready == "checks" and workload.offers and workload.nics
        if asked and not any(nic.addresses or nic.dhcp for nic in workload.nics):
            yield warns(
                "checks-without-address",
                workload.name,
                f"{workload.name} counts as ready once its services answer, and no address of it is known.",
                "Look at its adapters: its site may know more by now (Estate, Differences).",
            )
