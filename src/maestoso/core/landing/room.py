"""Whether a target has room for what would land there: memory, cores and space, with the figures."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal

from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import Side
from maestoso.core.model.estate import HostPool, Workload
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.model.landing import Landing

CLONE_SHARE = 0.1
"""Part of a disk that a test is expected to overwrite: clones are copy-on-write and take only that."""

What = Literal["memory", "cores", "space"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """One thing of one pool: GiB of memory or space, or cores. ``standby`` is what hosts in standby add."""

    pool: str
    what: What
    wanted: int
    free: int
    standby: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class InUse:
    """What of a host pool is used. ``reckoned``: its agent does not say, so its workloads were added up."""

    cores: int
    memory_mib: int
    reckoned: bool


def usage(pool: HostPool, workloads: Iterable[Workload]) -> InUse:
    """As the agent says; where it says that nothing is, as the ``workloads`` at home there amount to."""
    if pool.used_cores or pool.used_memory_mib:
        return InUse(cores=pool.used_cores, memory_mib=pool.used_memory_mib, reckoned=False)
    here = [workload for workload in workloads if workload.host_pool == pool.name]
    return InUse(
        cores=sum(w.cores for w in here), memory_mib=sum(w.memory_mib for w in here), reckoned=bool(here)
    )


def room(
    landings: Sequence[Landing], ground: Ground, target: str, side: Side, copied: Collection[str]
) -> tuple[Room, ...]:
    """What every pool that is landed on is asked for. ``copied`` workloads have their space there already."""
    memory: dict[str, int] = {}
    cores: dict[str, int] = {}
    space: dict[str, float] = {}
    for landing in landings:
        memory[landing.host_pool] = memory.get(landing.host_pool, 0) + landing.memory_mib
        cores[landing.host_pool] = cores.get(landing.host_pool, 0) + landing.cores
        for disk in landing.disks:
            part = CLONE_SHARE if side == "test" else 0.0 if landing.workload in copied else 1.0
            space[disk.storage_pool] = space.get(disk.storage_pool, 0.0) + disk.size_gib * part
    found: list[Room] = []
    for name, wanted in memory.items():
        pool = ground.host_pools.get((target, name))
        if pool is None:
            continue
        asleep = pool.standby_hosts / pool.hosts if pool.hosts else 0.0
        spare = round(pool.memory_mib * asleep), round(pool.cores * asleep)
        used = usage(pool, ground.sites[target].workloads)
        free = pool.memory_mib - used.memory_mib - spare[0]
        found.append(
            Room(pool=name, what="memory", wanted=-(-wanted // 1024), free=free // 1024,
                 standby=spare[0] // 1024)
        )  # fmt: skip
        rest = pool.cores - used.cores - spare[1]
        found.append(Room(pool=name, what="cores", wanted=cores[name], free=rest, standby=spare[1]))
    for name, gib in space.items():
        store = ground.storage_pools.get((target, name))
        if store is not None and gib:
            free = store.capacity_gib - store.used_gib
            found.append(Room(pool=name, what="space", wanted=round(gib), free=free))
    return tuple(found)


def room_findings(rooms: Sequence[Room], side: Side) -> Iterator[Finding]:
    """Too little memory or space blocks; cores can be shared, and a host in standby can be woken."""
    whose = "The copies of a test" if side == "test" else "A live run"
    for one in rooms:
        if one.wanted <= one.free:
            continue
        unit = "cores" if one.what == "cores" else f"GiB of {one.what}"
        kind = "" if one.what == "cores" else "GiB "
        awake = " on the hosts that are awake" if one.standby else ""
        have = f"{max(one.free, 0)} {kind}free{awake}"
        after = f", {one.standby} more in standby" if one.standby else ""
        shared = one.what == "cores" or one.wanted <= one.free + one.standby
        made = warns if shared or (one.what == "space" and side == "test") else blocks
        mend = {
            "memory": "Wake a host in standby, or land some of them elsewhere." if one.standby
            else "Land some of them elsewhere, or give them less memory there.",
            "cores": "They will share cores and be slower; land some of them elsewhere if that is too slow.",
            "space": "Make room in the pool, or land some of the disks on another.",
        }[one.what]  # fmt: skip
        sentence = f"{whose} would want {one.wanted} {unit}; {one.pool} has {have}{after}."
        yield made("no-room", one.pool, sentence, mend)
