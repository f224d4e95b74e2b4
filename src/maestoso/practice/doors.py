"""Front doors of a practice site: those of its inventory, and those that runs opened."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from ipaddress import ip_address
from typing import TYPE_CHECKING, Any

from maestoso.agent_kit import front_doors
from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue
from maestoso.core.model.estate import FrontDoor
from maestoso.practice.things import Copy, Failure, Op, OpenDoor
from maestoso.sites.verbs import Door, PublishAddress

if TYPE_CHECKING:
    from maestoso.practice.world import World

Outcome = tuple[Mapping[str, Any], Mapping[str, Any] | None]


def opened(world: World) -> Iterator[OpenDoor]:
    """Every door that leads somewhere now."""
    for own in world.inventory.front_doors:
        if own.name not in world.closed_doors:
            yield OpenDoor(
                name=own.name, mark="", address=own.address, ports=own.ports, machine=own.workload,
                sources=own.sources,
            )  # fmt: skip
    yield from world.doors.values()


def publish(world: World, op: Op) -> Outcome:
    """All of these doors open, or none of them."""
    try:
        told = from_data(PublishAddress, dict(op.submission.args), "args")
    except BadValue as error:
        raise Failure("bad-value", f"{error.sentence} {error.remedy}") from error
    known = {(one.mark, one.name): to_data(one) for one in opened(world)}
    front_doors.checked(told.mark, [to_data(door) for door in told.doors], known)
    for door in told.doors:
        _refuse_impossible(world, door)
    for door in told.doors:
        _open(world, door, told.mark)
    listed = [{"name": one.name, "address": one.address} for one in told.doors]
    return {}, {"published": listed, "mark": told.mark}


def _refuse_impossible(world: World, door: Door) -> None:
    machine = world.machine(door.machine)
    if machine is None or not machine.registered:
        raise Failure("no-such-copy", f"There is no machine {door.machine} here for {door.name} to lead to.")
    at, ranges = ip_address(door.address), world.inventory.door_addresses
    if ranges and not any(at.version == prefix.version and at in prefix for prefix in ranges):
        raise Failure("address-not-here", f"{door.address} cannot be published here.")


def _open(world: World, door: Door, mark: str) -> None:
    if mark:
        world.doors[(mark, door.name)] = OpenDoor(
            name=door.name, mark=mark, address=door.address, ports=door.ports, machine=door.machine,
            sources=door.sources,
        )  # fmt: skip
        return
    own = FrontDoor(
        name=door.name, address=door.address, ports=door.ports, workload=door.machine, sources=door.sources
    )
    world.closed_doors.discard(door.name)
    if own not in world.inventory.front_doors:
        keep(world, [own])


def keep(world: World, doors: Iterable[FrontDoor]) -> None:
    """Doors that are the site's own from now on."""
    made = {door.name: door for door in (*world.inventory.front_doors, *doors)}
    world.inventory = replace(world.inventory, front_doors=tuple(made.values()))


def withdraw(world: World, op: Op) -> Outcome:
    """Nobody comes in by these doors any more; with a mark, only by those that its run opened."""
    mark = str(op.submission.args.get("mark", ""))
    names = [str(name) for name in op.submission.args.get("doors", [])]
    own = {door.name for door in world.inventory.front_doors} - world.closed_doors
    closed = [name for name in names if (mark, name) in world.doors or (not mark and name in own)]
    for name in closed:
        if mark:
            del world.doors[(mark, name)]
        else:
            world.closed_doors.add(name)
    return {}, {"withdrawn": closed, "mark": mark} if closed else None


def adopt(world: World, mark: str, workloads: Iterable[str]) -> None:
    """Doors that a run opened are the site's own, where their workloads are."""
    names = set(workloads)
    mine = [door for door in world.doors.values() if door.mark == mark and door.machine in names]
    for door in mine:
        del world.doors[(mark, door.name)]
        world.closed_doors.discard(door.name)
    keep(world, (
        FrontDoor(name=d.name, address=d.address, ports=d.ports, workload=d.machine, sources=d.sources)
        for d in mine
    ))  # fmt: skip


def give_up(world: World, names: Iterable[str]) -> None:
    """These doors are open elsewhere from now on."""
    gone = set(names)
    kept = tuple(door for door in world.inventory.front_doors if door.name not in gone)
    world.closed_doors -= gone
    world.inventory = replace(world.inventory, front_doors=kept)


def found(world: World, mark: str) -> list[dict[str, Any]]:
    """The doors that a run opened, as it was told them."""
    return [
        {
            "name": door.name, "address": door.address, "ports": list(door.ports), "machine": door.machine,
            "sources": [str(one) for one in door.sources],
        }
        for door in world.doors.values() if door.mark == mark
    ]  # fmt: skip


def behind(world: World, address: str, port: str, source: str = "") -> Copy | None:
    """The machine that somebody from outside comes to; ``source`` is where they come from, if that is known.

    ``port`` is written ``tcp/443``.
    """
    for door in opened(world):
        allowed = not source or front_doors.lets_in(door.sources, source)
        if door.address == address and port in door.ports and allowed:
            return world.machine(door.machine)
    return None
