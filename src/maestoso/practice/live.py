"""What a practice site does when production moves: close down, fence, promote, take over, turn round."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue
from maestoso.core.model.estate import HostPool, Workload
from maestoso.core.replication.change import ChangeProfile
from maestoso.practice import doors
from maestoso.practice.definition import definition
from maestoso.practice.spec import Replica
from maestoso.practice.things import Copy, Failure, NotYet, Op

if TYPE_CHECKING:
    from maestoso.practice.world import World

Outcome = tuple[Mapping[str, Any], Mapping[str, Any] | None]
ON_COPYING = frozenset({"promote", "demote", "let-points-go", "changes-since", "reverse-copying"})
LOOK_AGAIN_S = 5.0


def ask_site(world: World, op: Op) -> Outcome:
    """That it answers is the answer."""
    return {"site": world.spec.code}, None


# --- the side that is closed down ---


def _own(world: World, name: str) -> Copy:
    copy = world.machine(name)
    if copy is None:
        raise Failure("no-such-copy", f"There is no machine {name} here.")
    return copy


def wait_for_shutdown(world: World, op: Op) -> None:
    """A guest that cannot be asked, or does not listen, keeps its power until the limit."""
    copy, args = world.machine(op.submission.subject), op.submission.args
    if copy is None or not copy.powered:
        op.due_at = world.now
    elif op.fault is not None and op.fault.effect == "ignored":
        op.due_at = world.now + float(args.get("limit_s", 300)) / op.submission.pace


def shut_down(world: World, op: Op) -> Outcome:
    """By its guest; by its power where that is allowed and the guest did not do it."""
    copy = _own(world, op.submission.subject)
    if not copy.powered:
        return {"forced": False}, None
    force, limit = bool(op.submission.args.get("force")), float(op.submission.args.get("limit_s", 300))
    ignored = op.fault is not None and op.fault.effect == "ignored"
    deaf = not world.known[copy.workload].guest_agent
    if (ignored or deaf) and not force:
        why = "has no guest agent" if deaf else f"did not shut down within {limit:.0f} s"
        raise Failure("still-running", f"{copy.name} {why}, and its power may not be cut.")
    world.cut_power(copy)
    return {"forced": ignored or deaf}, {"shut-down": copy.name, "forced": ignored or deaf}


def fence(world: World, op: Op) -> Outcome:
    """Off, and without power from now on; says what its disks hold. ``cut`` turns off one that runs."""
    name = op.submission.subject
    copy = world.machine(name)
    if copy is None:
        # Given up before, or never here: there is nothing that could come up.
        return {"was_running": False}, None
    was_running = copy.powered
    if was_running and not op.submission.args.get("cut"):
        raise Failure("still-running", f"{name} still runs, so it cannot be fenced.")
    if was_running:
        world.cut_power(copy)
    told = {"was_running": was_running, "contents": copy.contents, "checksum": checksum(name, copy.contents)}
    if copy.fenced:
        return told, None
    copy.fenced = True
    return told, {"fenced": name, **told}


def lift_fence(world: World, op: Op) -> Outcome:
    """It may have power again."""
    copy = _own(world, op.submission.subject)
    if not copy.fenced:
        return {}, None
    copy.fenced = False
    return {}, {"fence-lifted": copy.name}


def give_up(world: World, op: Op) -> Outcome:
    """The workloads are at home elsewhere from now on: what is left here is off and stays so."""
    names = {str(name) for name in op.submission.args.get("workloads", [])}
    running = []
    for name in sorted(names):
        copy = world.machine(name)
        if copy is not None:
            if copy.powered:
                running.append(name)
                world.cut_power(copy)
            copy.fenced = True
    rest = tuple(w for w in world.inventory.workloads if w.name not in names)
    gone = len(world.inventory.workloads) - len(rest)
    world.inventory = replace(world.inventory, workloads=rest)
    doors.give_up(world, [str(name) for name in op.submission.args.get("doors", [])])
    return {"were_running": running}, {"given-up": gone, "were_running": running} if gone else None


# --- the side that comes up ---


def promote(world: World, op: Op) -> Outcome:
    """The copies of a group are writable from now on, as they were at a point. Again: from another point."""
    args = op.submission.args
    code, point = str(args.get("group", "")), str(args.get("point", ""))
    known = world.replication.copying.get(code)
    if known is None:
        raise Failure("no-such-group", f"No copies of group {code!r} are held here.")
    apart = {str(name): str(other) for name, other in dict(args.get("apart", {})).items()}
    for wanted_point in (point, *apart.values()):
        if not known.promoted_at and not world.point_exists(code, wanted_point):
            raise Failure(
                "point-gone", f"The recovery point {wanted_point} of {code} is not held here any more."
            )
    for name in known.group.members:
        copy = world.copies.get(name)
        if copy is not None and copy.powered:
            world.cut_power(copy)
    held = world.replication.contents(code, point, apart)
    wanted = {str(name): float(moment) for name, moment in dict(args.get("contents", {})).items()}
    sums = {name: checksum(name, held.get(name, 0.0)) for name in known.group.members}
    behind = sorted(n for n, moment in wanted.items() if n in held and held[n] < moment)
    if behind and args.get("equal"):
        raise Failure("not-equal", f"The copies of {', '.join(behind)} are not equal to their source.")
    world.replication.promote(code, point, world.now, apart)
    for name in known.group.members:
        if name in world.copies:
            world.copies[name].contents = held.get(name, 0.0)
    return {"point": point, "behind": behind}, {
        "promoted": code, "point": point, "checksums": sums,
    }  # fmt: skip


def checksum(workload: str, contents: float) -> str:
    """Of the disks of a workload whose last write was at ``contents``: equal contents, equal sums."""
    return hashlib.sha256(f"{workload}/{contents:.3f}".encode()).hexdigest()[:16]


def disks_of(world: World, op: Op) -> None:
    """Make the machine of a promoted copy, before it is registered."""
    args, name = op.submission.args, op.submission.subject
    code = str(args.get("group", ""))
    known = world.replication.copying.get(code)
    if not world.replication.frozen and (known is None or not known.promoted_at):
        raise Failure("not-promoted", f"The copies of {code} are not writable, so {name} cannot come up.")
    if name in world.copies:
        raise Failure("copy-exists", f"A copy {name} exists already.")
    held, workload = world.replication.promoted_contents(code), str(args.get("workload", name))
    point = known.promoted_apart.get(workload, known.promoted_point) if known else ""
    world.copies[name] = Copy(
        name=name, workload=workload, mark=str(args.get("mark", "")), point=point, group=code,
        contents=held.get(workload, 0.0),
    )  # fmt: skip


def memory_mib(world: World, pool: HostPool) -> int:
    """What a pool can carry live: hosts in standby carry nothing until they are woken."""
    if pool.name in world.woken or not pool.hosts:
        return pool.memory_mib
    return pool.memory_mib * (pool.hosts - pool.standby_hosts) // pool.hosts


def kill_machine(world: World, op: Op) -> Outcome:
    """What runs a machine is killed."""
    name = op.submission.subject
    machine = world.machine(name)
    if machine is None:
        raise Failure("no-such-copy", f"There is no machine {name!r} here.")
    if not machine.powered:
        raise Failure("powered-off", f"{name} has no power.")
    world.cut_power(machine)
    return {}, {"killed": name}


def wake_host(world: World, op: Op) -> Outcome:
    """Standby hosts of a pool carry load from now on."""
    name = op.submission.subject
    if name not in {pool.name for pool in world.inventory.host_pools}:
        raise Failure("no-such-pool", f"There is no host pool {name!r} here.")
    if name in world.woken:
        return {}, None
    world.woken.add(name)
    return {}, {"woken": name}


def demote(world: World, op: Op) -> Outcome:
    """Discard what the copies of a group changed; they are copies again, and copying goes on."""
    code = str(op.submission.args.get("group", ""))
    up = [copy.name for copy in world.copies.values() if copy.group == code]
    if up:
        raise Failure("registered", f"{', '.join(up)} of {code} are still registered.")
    return {}, {"demoted": code} if world.replication.demote(code, world.now) else None


def adopt(world: World, op: Op) -> Outcome:
    """The copies of a run are the site's own workloads from now on."""
    try:
        specs = [from_data(Workload, item, "workload") for item in op.submission.args.get("workloads", [])]
    except BadValue as error:
        raise Failure("bad-definition", f"{error.sentence} {error.remedy}") from error
    names = {spec.name for spec in specs}
    for spec in specs:
        copy = world.copies.pop(spec.name, None)
        if copy is not None:
            copy.mark, copy.group = "", ""
            world.machines[spec.name] = copy
        world.known[spec.name] = spec
    kept = tuple(w for w in world.inventory.workloads if w.name not in names)
    world.inventory = replace(world.inventory, workloads=(*kept, *specs))
    doors.adopt(world, str(op.submission.args.get("mark", "")), names)
    return {}, {"adopted": sorted(names)}


def let_points_go(world: World, op: Op) -> Outcome:
    """Of a promoted group only what tells the two sides apart is kept."""
    code = op.submission.subject
    return {}, {"points-gone": code} if world.replication.drop_points(code) else None


# --- turning round ---


def changes_since(world: World, op: Op) -> Outcome:
    """What the copies of a promoted group changed since then, and from which moment they are."""
    code = str(op.submission.args.get("group", ""))
    known = world.replication.copying.get(code)
    if known is None or not known.promoted_at:
        raise Failure("not-promoted", f"The copies of {code} were never made writable here.")
    changed = world.replication.changed_since(code, world.now)
    held = world.replication.promoted_contents(code)
    return {"changed_bytes": int(changed), "since": min(held.values(), default=known.promoted_at)}, None


def begin_reverse(world: World, op: Op) -> None:
    """Begin to copy the differences; one that was begun before goes on where it was."""
    args = op.submission.args
    try:
        told = definition(args)
    except Failure:
        # It is said when the operation ends, which is now.
        return
    group, workloads = told.group, told.workloads
    world.care()
    if told.link is not None:
        world.replication.links[group.source] = told.link
    known = world.replication.copying.get(group.code)
    if known is None or known.group.source != group.source:
        usual = sum(world.usual_bps(workload) for workload in workloads)
        differ = float(args.get("changed_bytes", 0)) + _own_changes(world, workloads, args)
        replica = Replica(group=group, profile=ChangeProfile(usual_bps=usual))
        world.replication.copying.pop(group.code, None)
        world.replication.protect(replica, max(differ, 1.0), op.submission.pace, told.key, told.digest)
    for workload in workloads:
        world.known[workload.name] = workload
    op.due_at = world.now + LOOK_AGAIN_S / op.submission.pace


def _own_changes(world: World, workloads: Sequence[Workload], args: Mapping[str, Any]) -> float:
    """What the old source wrote after the point that the other side came up from."""
    since = args.get("since")
    if since is None:
        return 0.0
    own = ((w, world.machine(w.name)) for w in workloads)
    return sum(world.usual_bps(w) * max(m.contents - float(since), 0.0) for w, m in own if m is not None)


def reverse_copying(world: World, op: Op) -> Outcome:
    """Over when both sides are equal; with a point of that moment."""
    told = definition(op.submission.args)
    group = told.group
    known = world.replication.copying.get(group.code)
    if known is None:
        raise Failure("no-such-group", f"Nothing is copied of {group.code} any more.")
    if not known.whole() or world.replication.frozen:
        left = known.seed_bytes - known.seeded
        wait_s = left / (known.rate_bps * known.pace) if known.rate_bps > 0 else LOOK_AGAIN_S
        raise NotYet(world.now + min(max(wait_s, 0.5), LOOK_AGAIN_S * 12))
    point = world.replication.add_point(group.code, world.now, {})
    return {"point": point.id, "digest": told.digest}, {"reversed": group.code}
