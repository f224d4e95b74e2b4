"""Rules about where the copies would come down, and whether there is room."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from maestoso.core.landing.crosswalk_checks import check_crosswalk, reverse_missing
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.readiness.context import Context


def crosswalk_missing(ctx: Context) -> Iterator[Finding]:
    """Without a crosswalk nothing has a place."""
    if ctx.crosswalk is None:
        yield blocks(
            "crosswalk-missing",
            f"{ctx.plan.source} to {ctx.plan.target}",
            f"There is no crosswalk from {ctx.plan.source} to {ctx.plan.target}.",
            "Make one: it says which network, pool and address takes the place of which.",
        )
    else:
        yield from reverse_missing(ctx.reverse, ctx.crosswalk)


def crosswalk_holds(ctx: Context) -> Iterator[Finding]:
    """What is wrong with the rows that members of the plan land by."""
    if ctx.crosswalk is None:
        return
    used = {rule for judged in ctx.landed.values() for one in judged.landings
            for rule in (nic.decided for nic in one.nics)}  # fmt: skip
    for _, _, workload in ctx.known_members:
        used |= {workload.name, workload.host_pool, workload.folder}
        used |= {nic.network for nic in workload.nics} | {disk.storage_pool for disk in workload.disks}
    for finding in check_crosswalk(ctx.crosswalk, ctx.ground):
        if finding.subject in used:
            yield finding


def landings_hold(ctx: Context) -> Iterator[Finding]:
    """What is wrong in a test; what is wrong only in a live run does not stop a test."""
    if not ctx.landed:
        return
    sides = (ctx.landed["test"].findings, ctx.landed["live"].findings)
    test, live = (tuple(_certain(ctx, one) for one in side) for side in sides)
    in_test, in_live = ({(one.code, one.subject, one.part) for one in side} for side in (test, live))
    for finding in test:
        alike = (finding.code, finding.subject, finding.part) in in_live
        yield finding if alike else replace(finding, live="none")
    for finding in live:
        if (finding.code, finding.subject, finding.part) not in in_test:
            severity = "warns" if finding.severity == "blocks" else finding.severity
            said = f"In a live run: {finding.sentence}"
            yield replace(finding, severity=severity, sentence=said, live=finding.severity)


def _certain(ctx: Context, finding: Finding) -> Finding:
    """What is sure to fail stops a run before it starts, unless the run goes on without it by intent."""
    if finding.code != "injection-without-agent":
        return finding
    for _, member in ctx.plan.members():
        if member.workload == finding.subject:
            if not member.power_on:
                return replace(finding, severity="note")
            return finding if member.on_failure == "go-on" else replace(finding, severity="blocks")
    return finding


def dns_comes_later(ctx: Context) -> Iterator[Finding]:
    """A member must not need a name server that comes up in a later wave."""
    if not ctx.landed:
        return
    wave_of = {member.workload: wave for wave, member in ctx.plan.members()}
    landings = ctx.landed["test"].landings
    servers = {str(a.ip): one.workload for one in landings for nic in one.nics for a in nic.addresses}
    for one in landings:
        for text in dict.fromkeys(text for nic in one.nics for text in nic.dns):
            server = servers.get(text)
            if server is None or wave_of[server] <= wave_of[one.workload]:
                continue
            offered = {service.name for service in ctx.workloads[server].offers}
            # What it uses by name is said by the rule about services already.
            if offered.isdisjoint(ctx.workloads[one.workload].uses):
                yield warns(
                    "dns-comes-later",
                    one.workload,
                    f"{one.workload} comes up in wave {wave_of[one.workload] + 1} and asks {server} "
                    f"({text}) for names, which comes up in wave {wave_of[server] + 1}.",
                    f"Move {server} to an earlier wave.",
                    others=(server,),
                )


def held_landings(ctx: Context) -> Iterator[Finding]:
    """What the target holds for members must be what they will need."""
    for _, member in ctx.plan.members():
        if member.workload in ctx.held:
            yield warns(
                "held-landing-differs",
                member.workload,
                ctx.held[member.workload],
                "Ask the site to hold the landing again, on the page of the crosswalk.",
            )


def target_answers(ctx: Context) -> Iterator[Finding]:
    """A test happens at the target, so it must answer."""
    if ctx.plan.target in ctx.lost_sites:
        yield blocks(
            "site-unreachable",
            ctx.plan.target,
            f"{ctx.plan.target} does not answer: {ctx.lost_sites[ctx.plan.target]}",
            "Bring its site agent back; the run could not do anything there.",
        )
