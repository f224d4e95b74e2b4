"""A workload, and a front door, as they are once they have come down for good."""

from __future__ import annotations

from dataclasses import replace

from maestoso.core.model.door import DoorMove
from maestoso.core.model.estate import Disk, FrontDoor, Nic, Workload
from maestoso.core.model.landing import Landing


def arrived_door(move: DoorMove) -> FrontDoor:
    """A front door as the target has it after a committed failover."""
    return FrontDoor(
        name=move.name, address=move.after, ports=move.ports, workload=move.workload, sources=move.sources
    )


def arrived(workload: Workload, landing: Landing) -> Workload:
    """``workload`` as the target site has it after a committed failover, by its live landing.

    Disks that were left out of replication are not there any more; an adapter keeps the gateways and name
    servers that its landing gives it.
    """
    pools = {disk.disk: disk.storage_pool for disk in landing.disks}
    before = {nic.name: nic for nic in workload.nics}
    disks: tuple[Disk, ...] = tuple(
        replace(disk, storage_pool=pools[disk.name]) for disk in workload.disks if disk.name in pools
    )
    nics: tuple[Nic, ...] = tuple(
        replace(
            before[nic.nic],
            network=nic.network,
            mac=nic.mac,
            dhcp=nic.dhcp,
            addresses=nic.addresses,
            gateways=nic.gateways,
            dns=nic.dns,
        )
        for nic in landing.nics
        if nic.nic in before
    )
    return replace(
        workload,
        cores=landing.cores,
        memory_mib=landing.memory_mib,
        disks=disks,
        nics=nics,
        host_pool=landing.host_pool,
        folder=landing.folder,
    )
