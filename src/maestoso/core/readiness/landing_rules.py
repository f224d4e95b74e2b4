"""Rules about where the copies would come down, and whether there is room."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.landing.resolve import clashes
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.readiness.context import Context, test_landings


def crosswalk_missing(ctx: Context) -> Iterator[Finding]:
    """Without a crosswalk nothing has a place."""
    if ctx.crosswalk is None:
        yield blocks(
            "crosswalk-missing",
            f"{ctx.plan.source} to {ctx.plan.target}",
            f"There is no crosswalk from {ctx.plan.source} to {ctx.plan.target}.",
            "Make one: it says which network, pool and address takes the place of which.",
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
            yield warns(
                "injection-without-agent",
                workload.name,
                f"{workload.name} has no guest agent, so its new addresses cannot be set.",
                "Install the agent, or let it have its address by DHCP.",
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
            severe = warns if wanted <= pool.memory_mib - pool.used_memory_mib else blocks
            yield severe(
                "no-room",
                pool.name,
                (
                    f"The copies want {wanted // 1024} GiB of memory; {pool.name} has "
                    f"{free // 1024} GiB free on the hosts that are awake."
                ),
                "Wake a host in standby, or land some of them elsewhere.",
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
