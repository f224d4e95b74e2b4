"""Where the front doors of a plan open."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from maestoso.core.model.crosswalk import Crosswalk, Side
from maestoso.core.model.door import DoorMove
from maestoso.core.model.estate import FrontDoor, Inventory


def door_moves(
    names: Iterable[str], source: Inventory, crosswalk: Crosswalk | None, side: Side
) -> Iterator[DoorMove]:
    """Each of these doors that the source has, before and after; without a row it opens nowhere."""
    doors = {door.name: door for door in source.front_doors}
    for name in names:
        if name in doors:
            door = doors[name]
            yield DoorMove(
                name=name, workload=door.workload, ports=door.ports, before=door.address,
                after=address_at(door, crosswalk, side), sources=door.sources,
            )  # fmt: skip


def address_at(door: FrontDoor, crosswalk: Crosswalk | None, side: Side) -> str:
    """The address of a door at the target; empty where it opens nowhere."""
    row = next((one for one in crosswalk.front_doors if one.source == door.name), None) if crosswalk else None
    if row is None:
        return ""
    return row.test if side == "test" else row.live or door.address
