"""What each operation of the site protocol does to a practice site.

``accepted`` may set when the operation ends; ``done`` has the effect and returns the result together with
what goes into the journal (None when nothing changed: taking away what is not there is no effect).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from maestoso.agent_kit import front_doors
from maestoso.core.codec import to_data
from maestoso.core.landing.isolation import in_words
from maestoso.core.replication.change import ChangeProfile
from maestoso.core.replication.cost import GIB
from maestoso.practice import cues, doors, landings, live
from maestoso.practice.definition import definition
from maestoso.practice.durations import boot_s
from maestoso.practice.spec import Replica
from maestoso.practice.things import NEVER, Copy, Failure, Op, Sandbox
from maestoso.sites.contract import Submission

if TYPE_CHECKING:
    from maestoso.practice.world import World

Effect = Mapping[str, Any] | None
Outcome = tuple[Mapping[str, Any], Effect]


def _nothing(world: World, op: Op) -> None:
    """Ends when its drawn duration is over."""


@dataclass(frozen=True, slots=True)
class Verb:
    """The two halves of an operation."""

    done: Callable[[World, Op], Outcome]
    accepted: Callable[[World, Op], None] = _nothing


def _copy(world: World, submission: Submission, registered: bool = True) -> Copy:
    copy = world.machine(submission.subject)
    if copy is None or (registered and not copy.registered):
        raise Failure("no-such-copy", f"There is no copy {submission.subject} here.")
    return copy


def _sync(world: World, op: Op) -> Outcome:
    group = str(op.submission.args.get("group", ""))
    if group not in world.replication.copying:
        raise Failure("no-such-group", f"No copies of group {group!r} are held here.")
    contents = {str(k): float(v) for k, v in dict(op.submission.args.get("contents", {})).items()}
    point = world.replication.add_point(group, world.now, contents)
    return {"point": point.id, "at": point.at.isoformat()}, {"point": point.id}


def _make_sandbox(world: World, op: Op) -> Outcome:
    name, mark = op.submission.subject, str(op.submission.args.get("mark", ""))
    if name in world.sandboxes:
        raise Failure("network-exists", f"A network {name} exists already.")
    production = [net.name for net in world.inventory.networks if net.role == "production"]
    leaks = op.fault is not None and op.fault.effect == "leak"
    like = str(op.submission.args.get("like", ""))
    routes = tuple(production[:1] if leaks else ())
    world.sandboxes[name] = Sandbox(name=name, mark=mark, like=like, routes_to=routes)
    return {}, {"made": name}


def _remove_sandbox(world: World, op: Op) -> Outcome:
    name = op.submission.subject
    on_it = [c.name for c in world.copies.values() if any(n["network"] == name for n in c.nics.values())]
    if on_it:
        raise Failure("network-in-use", f"{name} still has {', '.join(on_it)} on it.")
    return {}, {"removed": name} if world.sandboxes.pop(name, None) else None


def _prove_isolation(world: World, op: Op) -> Outcome:
    """Follow every route from the sandbox; a path to a production network fails, hop by hop."""
    mark = str(op.submission.args.get("mark", ""))
    front_doors.proved_apart(op.submission.args.get("doors", []), map(to_data, world.inventory.front_doors))
    start = [str(name) for name in op.submission.args.get("networks", [])]
    copies = [copy for copy in world.copies.values() if copy.mark == mark]
    start += [n["network"] for copy in copies for n in copy.nics.values() if n.get("connected", True)]
    for first in dict.fromkeys(start):
        way = landings.way_to_production(world, first, mark)
        if way:
            raise Failure("not-isolated", f"The sandbox reaches production: {in_words(way)}.")
    return {"networks": sorted(set(start))}, {"proved": sorted(set(start))}


def _clone_point(world: World, op: Op) -> Outcome:
    args = op.submission.args
    workload, group, point = (str(args.get(name, "")) for name in ("workload", "group", "point"))
    if not world.holds(group, workload) or workload not in world.known:
        raise Failure("no-such-replica", f"No replica of {workload} in group {group!r} is held here.")
    if not world.point_exists(group, point):
        raise Failure("point-gone", f"The recovery point {point} of {group} is not held here any more.")
    name = op.submission.subject
    if name in world.copies:
        raise Failure("copy-exists", f"A copy {name} exists already.")
    world.copies[name] = Copy(name=name, workload=workload, mark=str(args.get("mark", "")), point=point)
    return {"point": point}, {"cloned": workload, "point": point}


def _register(world: World, op: Op) -> Outcome:
    args = op.submission.args
    if args.get("group"):
        live.disks_of(world, op)
    copy = _copy(world, op.submission, registered=False)
    pool = next(
        (p for p in world.inventory.host_pools if p.name == op.submission.args.get("host_pool")), None
    )
    if pool is None:
        raise Failure("no-such-pool", f"There is no host pool {op.submission.args.get('host_pool')!r} here.")
    copy.registered, copy.host_pool = True, pool.name
    copy.folder = str(op.submission.args.get("folder", ""))
    return {}, {"registered": copy.name, "host_pool": pool.name}


def _set_size(world: World, op: Op) -> Outcome:
    copy = _copy(world, op.submission)
    memory = int(op.submission.args.get("memory_mib", 0))
    pool = next(p for p in world.inventory.host_pools if p.name == copy.host_pool)
    taken = pool.used_memory_mib + sum(
        c.memory_mib for c in world.copies.values() if c.host_pool == pool.name and c is not copy
    )
    room = live.memory_mib(world, pool) if copy.group else pool.memory_mib
    if taken + memory > room:
        left = max(room - taken, 0)
        raise Failure("no-room", f"{copy.name} wants {memory} MiB; {pool.name} has {left} MiB left.")
    copy.cores, copy.memory_mib = int(op.submission.args.get("cores", 1)), memory
    return {}, {"cores": copy.cores, "memory_mib": memory}


def _attach_nics(world: World, op: Op) -> Outcome:
    copy = _copy(world, op.submission)
    known = {network.name for network in world.inventory.networks} | set(world.sandboxes)
    nics = {str(nic["nic"]): dict(nic) for nic in op.submission.args.get("nics", [])}
    for nic in nics.values():
        if nic.get("connected", True) and nic["network"] not in known:
            raise Failure("no-such-network", f"There is no network {nic['network']} here.")
    copy.nics = nics
    return {}, {"nics": list(nics.values())}


def _set_addresses(world: World, op: Op) -> Outcome:
    copy = _copy(world, op.submission)
    if not world.known[copy.workload].guest_agent:
        raise Failure(
            "no-guest-agent", f"{copy.workload} has no guest agent, so nobody can give it addresses."
        )
    for nic in op.submission.args.get("nics", []):
        if nic["nic"] not in copy.nics:
            raise Failure("no-such-nic", f"{copy.name} has no adapter {nic['nic']}.")
        told = {key: nic[key] for key in ("addresses", "gateways", "dns", "dhcp") if key in nic}
        copy.nics[nic["nic"]] |= told
    return {}, {"nics": list(op.submission.args.get("nics", []))}


def _power_on(world: World, op: Op) -> Outcome:
    copy = _copy(world, op.submission)
    if copy.fenced:
        raise Failure("fenced", f"{copy.name} is fenced here: it runs, or will run, at another site.")
    if copy.powered and op.submission.args.get("unless_on"):
        return {"powered": "on"}, None
    if copy.powered:
        raise Failure("powered-on", f"{copy.name} has power already.")
    seconds = boot_s(world.spec.seed, world.known[copy.workload], op.key) / op.submission.pace
    hangs = op.fault is not None and op.fault.effect == "boot-hangs"
    copy.powered, copy.heartbeat_at = True, NEVER if hangs else world.now + seconds
    copy.powered_at = world.now
    landings.lease(world, copy)
    return {}, {"powered": "on"}


def _power_off(world: World, op: Op) -> Outcome:
    copy = world.machine(op.submission.subject)
    if copy is None or not copy.powered:
        return {}, None
    world.cut_power(copy)
    return {}, {"powered": "off"}


def _wait_for_heartbeat(world: World, op: Op) -> None:
    """Ends with the heartbeat, or at the time limit, or when the copy loses its power."""
    copy = world.machine(op.submission.subject)
    limit = world.now + float(op.submission.args.get("timeout_s", 600)) / op.submission.pace
    if copy is None:
        return
    if op.fault and op.fault.effect == "hang":
        op.due_at = limit
        return
    if op.submission.args.get("restart") and not copy.fenced:
        copy.powered = True
        again = world.fault_for(replace(op.submission, verb="power-on"))
        seconds = boot_s(world.spec.seed, world.known[copy.workload], op.key) / op.submission.pace
        copy.heartbeat_at = NEVER if again and again.effect == "boot-hangs" else world.now + seconds
    else:
        _is_booting(copy, op)
    op.due_at = min(max(copy.heartbeat_at, world.now), limit)
    world.waiters.setdefault(copy.name, set()).add(op.key)


def _is_booting(copy: Copy, op: Op) -> None:
    """The operation waits for a boot that was under way before it was asked for. Told once of every boot."""
    if copy.powered_at:
        op.waits_since, op.waits_until, copy.powered_at = copy.powered_at, copy.heartbeat_at, 0.0


def _await_heartbeat(world: World, op: Op) -> Outcome:
    copy = _copy(world, op.submission)
    if not world.known[copy.workload].guest_agent:
        raise Failure("no-guest-agent", f"{copy.workload} has no guest agent, so no heartbeat will come.")
    if not copy.powered:
        raise Failure("powered-off", f"{copy.name} has no power, so no heartbeat will come.")
    if copy.heartbeat_at > world.now or (op.fault and op.fault.effect == "hang"):
        limit = float(op.submission.args.get("timeout_s", 600))
        raise Failure("ready-timeout", f"No heartbeat from {copy.name} within {limit:.0f} s.")
    return {}, None


def _probe_service(world: World, op: Op) -> Outcome:
    copy = _copy(world, op.submission)
    args = op.submission.args
    if not copy.powered:
        raise Failure("powered-off", f"{copy.name} has no power.")
    if copy.heartbeat_at > world.now:
        raise Failure("no-answer", f"{copy.name} is not up, so nothing answers on port {args.get('port')}.")
    if all(service.port != args.get("port") for service in world.known[copy.workload].offers):
        raise Failure("no-answer", f"{copy.name} does not answer on port {args.get('port')}.")
    return {"answered": f"{args.get('protocol')} {args.get('port')}"}, None


def _wait_to_probe(world: World, op: Op) -> None:
    """A service answers some time after its machine is up; without that, only the time limit ends it."""
    copy = world.machine(op.submission.subject)
    if copy is None or not copy.powered or (op.fault and op.fault.effect == "hang"):
        return
    seconds = op.due_at - world.now
    if op.submission.args.get("restart") and copy.powered:
        again = world.fault_for(replace(op.submission, verb="power-on"))
        seconds = boot_s(world.spec.seed, world.known[copy.workload], op.key) / op.submission.pace
        copy.heartbeat_at = NEVER if again and again.effect == "boot-hangs" else world.now + seconds
    elif not world.known[copy.workload].guest_agent:
        _is_booting(copy, op)
    limit = world.now + float(op.submission.args.get("timeout_s", 600)) / op.submission.pace
    op.due_at = min(max(copy.heartbeat_at, world.now) + seconds, max(limit, op.due_at))
    world.waiters.setdefault(copy.name, set()).add(op.key)


def _unregister(world: World, op: Op) -> Outcome:
    copy = world.copies.get(op.submission.subject)
    if copy is None or not copy.registered:
        return {}, None
    if copy.powered:
        raise Failure("powered-on", f"{copy.name} still has power.")
    copy.registered, copy.nics, copy.memory_mib = False, {}, 0
    if copy.group:
        # The disks of a live copy are its group's; those of a test copy are its own, and discarded later.
        del world.copies[copy.name]
    return {}, {"unregistered": copy.name}


def _discard_clone(world: World, op: Op) -> Outcome:
    copy = world.copies.get(op.submission.subject)
    if copy is None:
        return {}, None
    if copy.registered:
        raise Failure("registered", f"{copy.name} is still registered.")
    del world.copies[copy.name]
    return {}, {"discarded": copy.name}


def _leak_check(world: World, op: Op) -> Outcome:
    left = world.remains(str(op.submission.args.get("mark", "")))
    if left:
        raise Failure("remains", f"Something of the test is left: {', '.join(left)}.")
    return {"remains": []}, None


def _protect(world: World, op: Op) -> Outcome:
    """Copy a group from now on as its definition says; the same again changes nothing."""
    told = definition(op.submission.args)
    group, workloads = told.group, told.workloads
    if told.link is not None:
        world.replication.links[group.source] = told.link
    known = world.replication.copying.get(group.code)
    for workload in workloads:
        world.known[workload.name] = workload
    if known is not None and (known.digest, known.group, known.key) == (told.digest, group, told.key):
        return {"digest": told.digest}, None
    usual = sum(world.usual_bps(workload) for workload in workloads)
    profile = known.profile if known is not None else ChangeProfile(usual_bps=0.0)
    size = sum(workload.size_gib for workload in workloads) * GIB
    replica = Replica(group=group, profile=replace(profile, usual_bps=usual))
    world.replication.protect(replica, float(size), op.submission.pace, told.key, told.digest)
    return {"digest": told.digest}, {"protected": group.code, "digest": told.digest}


def _unprotect(world: World, op: Op) -> Outcome:
    group = op.submission.subject
    return {}, {"unprotected": group} if world.replication.unprotect(group) else None


def _pause_copying(world: World, op: Op) -> Outcome:
    """Pause with a reason, or go on where the reason is empty."""
    known = world.replication.copying.get(op.submission.subject)
    if known is None:
        raise Failure("no-such-group", f"No copies of group {op.submission.subject!r} are held here.")
    known.paused_because = str(op.submission.args.get("because", ""))
    return {}, {"paused_because": known.paused_because}


def _pin_point(world: World, op: Op) -> Outcome:
    """Name a point so that it stays; an empty label lets it go."""
    point, label = str(op.submission.args.get("point", "")), str(op.submission.args.get("label", ""))
    if not world.replication.pin(op.submission.subject, point, label):
        raise Failure("point-gone", f"The recovery point {point} is not held here any more.")
    return {}, {"point": point, "label": label}


ON_COPYING = frozenset(
    {"protect", "unprotect", "pause-copying", "pin-point", "sync", "clone-point", *live.ON_COPYING}
)
"""Verbs whose outcome depends on the copying."""

VERBS: Mapping[str, Verb] = {
    "protect": Verb(_protect),
    "unprotect": Verb(_unprotect),
    "pause-copying": Verb(_pause_copying),
    "pin-point": Verb(_pin_point),
    "sync": Verb(_sync),
    "hold-landings": Verb(landings.hold),
    "release-landings": Verb(landings.release),
    "read-adapters": Verb(landings.read_adapters),
    "make-sandbox": Verb(_make_sandbox),
    "remove-sandbox": Verb(_remove_sandbox),
    "name-copies": Verb(cues.name_copies),
    "publish-address": Verb(doors.publish),
    "withdraw-address": Verb(doors.withdraw),
    "prove-isolation": Verb(_prove_isolation),
    "clone-point": Verb(_clone_point),
    "register": Verb(_register),
    "set-size": Verb(_set_size),
    "attach-nics": Verb(_attach_nics),
    "set-addresses": Verb(_set_addresses),
    "power-on": Verb(_power_on),
    "power-off": Verb(_power_off),
    "await-heartbeat": Verb(_await_heartbeat, _wait_for_heartbeat),
    "probe-service": Verb(_probe_service, _wait_to_probe),
    "run-script": Verb(cues.run_script, cues.wait_for_script),
    "probe": Verb(cues.probe, cues.wait_to_probe),
    "unregister": Verb(_unregister),
    "discard-clone": Verb(_discard_clone),
    "leak-check": Verb(_leak_check),
    "ask-site": Verb(live.ask_site),
    "shut-down": Verb(live.shut_down, live.wait_for_shutdown),
    "fence": Verb(live.fence),
    "lift-fence": Verb(live.lift_fence),
    "promote": Verb(live.promote),
    "demote": Verb(live.demote),
    "kill-machine": Verb(live.kill_machine),
    "wake-host": Verb(live.wake_host),
    "adopt": Verb(live.adopt),
    "give-up": Verb(live.give_up),
    "let-points-go": Verb(live.let_points_go),
    "changes-since": Verb(live.changes_since),
    "reverse-copying": Verb(live.reverse_copying, live.begin_reverse),
}
