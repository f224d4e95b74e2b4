"""Rules about front doors: which the plan moves, where they open, and who finds them there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from ipaddress import ip_address

from maestoso.core.landing.doors import address_at, door_moves
from maestoso.core.landing.names import addresses
from maestoso.core.model.crosswalk import Side
from maestoso.core.model.door import MOST_DOORS, DoorMove
from maestoso.core.model.estate import FrontDoor
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.planning.inputs import LIVE, Kind
from maestoso.core.readiness.context import Context

Moves = dict[str, tuple[DoorMove, ...]]


def moves(ctx: Context, side: Side) -> Moves:
    """The front doors that each door cue of the plan moves, by its id."""
    source = ctx.ground.sites.get(ctx.plan.source)
    if source is None:
        return {}
    return {
        cue.id: tuple(door_moves(cue.doors.doors, source, ctx.crosswalk, side))
        for cue in ctx.cues_of("doors")
        if cue.doors is not None
    }


def door_addresses(ctx: Context, side: Side) -> Mapping[str, tuple[str, ...]]:
    """Where the doors of the source lead clients at the target, by their names.

    In a test that is the copy itself: the copies are on one network, where no door is between them.
    """
    source = ctx.ground.sites.get(ctx.plan.source)
    judged = ctx.landed.get(side)
    landings = {one.workload: one for one in judged.landings} if judged else {}
    found: dict[str, tuple[str, ...]] = {}
    for door in source.front_doors if source else ():
        if side == "live":
            found[door.name] = tuple(filter(None, [address_at(door, ctx.crosswalk, side)]))
        elif door.workload in landings:
            landing = landings[door.workload]
            found[door.name] = (*addresses(landing, "A"), *addresses(landing, "AAAA"))
    return found


def told_before(ctx: Context, kind: Kind, source: str, target: str) -> tuple[str, ...]:
    """What a run does with front doors, a sentence each; the sites by their names."""
    cues = {cue.id for cue in ctx.cues_of("doors") if kind in cue.kinds}
    side: Side = "live" if kind in LIVE else "test"
    found = [one for cue, listed in moves(ctx, side).items() if cue in cues for one in listed if one.after]
    return tuple(_told(one, kind, source, target) for one in found)


def _told(one: DoorMove, kind: Kind, source: str, target: str) -> str:
    said = f"{one.name} ({', '.join(one.ports)}) opens at {one.after} at {target}"
    if kind == "test":
        return f"{said} for the copy of {one.workload}; at {source} it stays as it is."
    closes = f"{one.before} at {source} closes"
    if one.before == one.after:
        closes = f"at {source} the same address closes"
    when = "before anything is shut down"
    if kind == "disaster":
        when = "first if that site answers, else as soon as it does"
    return f"{said} and leads to {one.workload} there; {closes} {when}."


def _doors(ctx: Context) -> dict[str, FrontDoor]:
    source = ctx.ground.sites.get(ctx.plan.source)
    return {door.name: door for door in source.front_doors} if source else {}


def door_malformed(ctx: Context) -> Iterator[Finding]:
    """A door cue names doors, and each door is moved once."""
    named: dict[str, str] = {}
    for cue in ctx.cues_of("doors"):
        listed = cue.doors.doors if cue.doors else ()
        if not 1 <= len(listed) <= MOST_DOORS:
            yield blocks("cue-malformed", cue.title, f"The cue {cue.title} has {len(listed)} front doors.",
                         f"Give 1 to {MOST_DOORS}.")  # fmt: skip
        for name in listed:
            if name in named:
                yield blocks("cue-malformed", cue.title, f"{name[:80]} is opened by {named[name]} already.",
                             "Open it once.")  # fmt: skip
            named.setdefault(name, cue.title)


def door_unknown(ctx: Context) -> Iterator[Finding]:
    """What is moved must be there, and lead to something that this plan brings up."""
    doors = _doors(ctx)
    members = {member.workload for _, member in ctx.plan.members() if member.power_on}
    for cue in ctx.cues_of("doors"):
        for name in cue.doors.doors if cue.doors else ():
            if name not in doors:
                yield blocks(
                    "door-unknown", cue.id,
                    f"The cue {cue.title} moves {name[:80]}, which {ctx.plan.source} does not have.",
                    f"Choose one of: {', '.join(doors) or 'none is known there'}; or read the site again.",
                )  # fmt: skip
            elif doors[name].workload not in members:
                yield blocks(
                    "door-unknown", cue.id,
                    f"{name} leads to {doors[name].workload}, which this plan does not bring up.",
                    f"Bring {doors[name].workload} up in this plan, or leave {name} out.",
                )  # fmt: skip


def door_without_row(ctx: Context) -> Iterator[Finding]:
    """A door opens at the target by its row of the crosswalk."""
    for one in _all(ctx, "live"):
        if not one.after and ctx.crosswalk is not None:
            yield _live_only(blocks(
                "door-without-row", one.name,
                f"The crosswalk does not say which address {one.name} has at {ctx.plan.target}.",
                "Add a row for it to the crosswalk, under Front doors.",
            ))  # fmt: skip


def _all(ctx: Context, side: Side) -> Iterator[DoorMove]:
    for listed in moves(ctx, side).values():
        yield from listed


def _live_only(found: Finding) -> Finding:
    """Matters only where production moves; in a test the door stays where it is."""
    return replace(found, severity="note", live="blocks")


def door_cannot_open(ctx: Context) -> Iterator[Finding]:
    """Its address must be one that the target can publish, and lead to nothing else there."""
    target = ctx.ground.sites.get(ctx.plan.target)
    if target is None:
        return
    for side in ("live", "test"):
        opened: list[DoorMove] = []
        for one in _all(ctx, side):
            if not one.after:
                continue
            at = ip_address(one.after)
            ranges = target.door_addresses
            there = (
                FrontDoor(name=m.name, address=m.after, ports=m.ports, workload=m.workload) for m in opened
            )
            taken = next((door for door in (*target.front_doors, *there) if _meet(door, one)), None)
            opened.append(one)
            if ranges and not any(at.version == prefix.version and at in prefix for prefix in ranges):
                shown = ", ".join(map(str, ranges))
                found = blocks(
                    "door-cannot-open", one.name,
                    f"{one.name} would open at {one.after}, which {ctx.plan.target} cannot publish.",
                    f"Give it an address of {shown} in the crosswalk.",
                )  # fmt: skip
            elif taken is not None:
                found = blocks(
                    "door-cannot-open", one.name,
                    f"{one.name} would open at {one.after}, where {taken.name} leads to {taken.workload}.",
                    "Give it another address in the crosswalk.",
                )  # fmt: skip
            else:
                continue
            yield _live_only(found) if side == "live" else replace(found, live="none")


def _meet(door: FrontDoor, one: DoorMove) -> bool:
    return door.name != one.name and door.address == one.after and bool(set(door.ports) & set(one.ports))


def door_of_test_is_production(ctx: Context) -> Iterator[Finding]:
    """Whoever comes to an address of production must never meet a copy of a test."""
    held = {
        door.address: f"{door.name} of {code}"
        for code, site in ctx.ground.sites.items() for door in site.front_doors
    }  # fmt: skip
    held |= {
        address_at(door, ctx.crosswalk, "live"): f"{door.name} when it is moved"
        for door in _doors(ctx).values()
    }
    for one in _all(ctx, "test"):
        if one.after and one.after in held:
            yield replace(blocks(
                "door-of-test-is-production", one.name,
                f"In a test {one.name} would open at {one.after}, which is {held[one.after]}.",
                "Give tests an address of their own in the crosswalk.",
            ), live="none")  # fmt: skip


def door_open_twice(ctx: Context) -> Iterator[Finding]:
    """What both sites publish leads some clients to the wrong one."""
    target = ctx.ground.sites.get(ctx.plan.target)
    there = {door.name: door for door in target.front_doors} if target else {}
    for one in _all(ctx, "live"):
        if one.name in there:
            yield warns(
                "door-open-twice", one.name,
                f"{ctx.plan.source} and {ctx.plan.target} both have the front door {one.name}.",
                "See which of the two is right, and close the other at its site.",
            )  # fmt: skip


def door_without_name(ctx: Context) -> Iterator[Finding]:
    """Where the address changes, a name must lead to the new one."""
    led = {
        record.door
        for _, _, cue in ctx.plan.placed_cues() if cue.names is not None for record in cue.names.records
    }  # fmt: skip
    for one in _all(ctx, "live"):
        if one.after and one.after != one.before and one.name not in led:
            said = f"{one.name} moves from {one.before} to {one.after}, and no name of the plan leads to it."
            yield warns("door-without-name", one.name, said,
                        "Add a cue Names lead there with a name that leads to this front door.")  # fmt: skip


def door_stays(ctx: Context) -> Iterator[Finding]:
    """A workload that moves without its door is up, and nobody comes to it."""
    named = {name for cue in ctx.cues_of("doors") for name in (cue.doors.doors if cue.doors else ())}
    members = {member.workload for _, member in ctx.plan.members() if member.power_on}
    for door in _doors(ctx).values():
        if door.workload in members and door.name not in named:
            said = (
                f"Clients come to {door.workload} by {door.name}, a front door that no cue of the plan moves."
            )
            yield warns("door-stays", door.name, said,
                        "Add a cue Front doors open, or see that they find it in another way.")  # fmt: skip
