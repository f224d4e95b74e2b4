"""Rules about where the copies would come down, and whether there is room."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.landing.resolve import clashes
from maestoso.core.model.finding import Finding
from maestoso.core.readiness.context import Context, test_landings


def crosswalk_missing(ctx: Context) -> Iterator[Finding]:
    """Without a crosswalk nothing has a place."""
    if ctx.crosswalk is None:
        yield Finding(
            code="crosswalk-missing",
            severity="blocks",
            subject=f"{ctx.plan.source} to {ctx.plan.target}",
            sentence=f"There is no crosswalk from {ctx.plan.source} to {ctx.plan.target}.",
            mend="Make one: it says which network, pool and address takes the place of which.",
        )


def landings_hold(ctx: Context) -> Iterator[Finding]:
    """Every landing must be complete, inside its prefixes, and alone on its addresses."""
    landings, findings = test_landings(ctx)
    yield from dict.fromkeys(findings)
    yield from clashes(landings)


def injection_without_agent(ctx: Context) -> Iterator[Finding]:
    """Addresses are set by the guest agent; without it only DHCP reaches the guest."""
    landings, _ = test_landings(ctx)
    for landing in landings:
        workload = ctx.workloads[landing.workload]
        if not workload.guest_agent and any(nic.addresses for nic in landing.nics):
            yield Finding(
                code="injection-without-agent",
                severity="warns",
                subject=workload.name,
                sentence=f"{workload.name} has no guest agent, so its new addresses cannot be set.",
                mend="Install the agent, or let it have its address by DHCP.",
            )


def room_at_target(ctx: Context) -> Iterator[Finding]:
    """Memory and cores for all copies at once; hosts in standby do not count until they are woken."""
    wanted_mib: dict[str, int] = {}
    for landing in test_landings(ctx)[0]:
        wanted_mib[landing.host_pool] = wanted_mib.get(landing.host_pool, 0) + landing.memory_mib
    for pool in ctx.target.host_pools:
        awake = (pool.hosts - pool.standby_hosts) / pool.hosts if pool.hosts else 0.0
        free = int(pool.memory_mib * awake) - pool.used_memory_mib
        wanted = wanted_mib.get(pool.name, 0)
        if wanted > free:
            yield Finding(
                code="no-room",
                severity="warns" if wanted <= pool.memory_mib - pool.used_memory_mib else "blocks",
                subject=pool.name,
                sentence=(
                    f"The copies want {wanted // 1024} GiB of memory; {pool.name} has "
                    f"{free // 1024} GiB free on the hosts that are awake."
                ),
                mend="Wake a host in standby, or land some of them elsewhere.",
            )


def target_answers(ctx: Context) -> Iterator[Finding]:
    """A test happens at the target, so it must answer."""
    if ctx.plan.target in ctx.lost_sites:
        yield Finding(
            code="site-unreachable",
            severity="blocks",
            subject=ctx.plan.target,
            sentence=f"{ctx.plan.target} does not answer: {ctx.lost_sites[ctx.plan.target]}",
            mend="Bring its site agent back; the run could not do anything there.",
        )
