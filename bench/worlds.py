"""Synthetic plans of any size for the comparisons: waves of chains, one site with limits."""

from __future__ import annotations

from tests import worlds

from maestoso.core.model.plan import Member
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.readiness.context import Context

WAVES = 8
CHAIN = 10


def inputs(workloads: int) -> RunInputs:
    """A test of ``workloads`` machines in eight waves, each waiting for the one before it in its chain."""
    return worlds.inputs(context(workloads))


def context(workloads: int) -> Context:
    """The plan of that test, and its world."""
    names = [f"w{index:05d}" for index in range(workloads)]
    estate = {name: worlds.workload(name, 1 + index % 200, nics=()) for index, name in enumerate(names)}
    waves: list[list[Member]] = [[] for _ in range(WAVES)]
    for index, name in enumerate(names):
        wave = index * WAVES // workloads
        before = (names[index - 1],) if index % CHAIN and waves[wave] else ()
        waves[wave].append(Member(workload=name, depends_on=before))
    return worlds.context(
        plan=worlds.plan(*(tuple(wave) for wave in waves)),
        workloads=estate,
        target=worlds.target(
            host_pools=(worlds.HostPool(name="b-hosts", hosts=1, cores=10**6, memory_mib=10**9),)
        ),
        groups=(worlds.replace(worlds.GROUP, members=tuple(names)),),
    )


def shapeless() -> RunInputs:
    """Inputs of a run whose graph is given by the bench; slots are in nobody's way."""
    return worlds.inputs()
