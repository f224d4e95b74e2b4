"""What the cues of a plan do at a practice site: scripts that only pretend to run, and probes.

A practice script does nothing but take its time, say that it ran and end with the exit code that the practice
lab chose; its text is checked against its hash, as a real agent must.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from maestoso.core.replication.change import chance
from maestoso.practice import doors
from maestoso.practice.things import Copy, Failure, Op

if TYPE_CHECKING:
    from maestoso.practice.world import World

Outcome = tuple[Mapping[str, Any], Mapping[str, Any] | None]
LEAST_DAYS, MOST_DAYS = 20, 300
"""Between these, every practice certificate has its own number of days left."""


def _limit(world: World, op: Op, usual_s: float) -> float:
    return world.now + float(op.submission.args.get("timeout_s", usual_s)) / op.submission.pace


def wait_for_script(world: World, op: Op) -> None:
    """Ends with the script, at its time limit, or when its guest loses its power."""
    op.due_at = min(op.due_at, _limit(world, op, 300.0))
    if op.submission.args.get("where") == "guest":
        world.waiters.setdefault(op.submission.subject, set()).add(op.key)


def run_script(world: World, op: Op) -> Outcome:
    """Pretend to run a script."""
    args = op.submission.args
    name, text = str(args.get("script", "")), str(args.get("text", ""))
    if hashlib.sha256(text.encode()).hexdigest() != args.get("sha256"):
        raise Failure("script-altered", f"The text of {name} does not have the hash that was sent with it.")
    if args.get("where") == "guest":
        copy = _up(world, op.submission.subject)
        if not world.known[copy.workload].guest_agent:
            raise Failure("no-guest-agent", f"{copy.name} has no guest agent, so nothing can be run in it.")
    if op.fault is not None and op.fault.effect == "hang":
        raise Failure(
            "script-timeout", f"{name} did not end within {float(args.get('timeout_s', 300)):.0f} s."
        )
    code = op.fault.exit_code if op.fault is not None and op.fault.effect == "exits" else 0
    said = op.fault.reason if code and op.fault is not None else f"{name}: practised, nothing was changed"
    return {"exit_code": code, "output": said}, {"ran": name, "exit_code": code}


def _up(world: World, name: str) -> Copy:
    copy = world.copies.get(name)
    if copy is None or not copy.powered:
        raise Failure("powered-off", f"{name} has no power.")
    if copy.heartbeat_at > world.now:
        raise Failure("no-answer", f"{name} is not up.")
    return copy


def name_copies(world: World, op: Op) -> Outcome:
    """Tell the isolated networks of a run what names lead to."""
    mark = op.submission.args.get("mark")
    boxes = [box for box in world.sandboxes.values() if box.mark == mark]
    if not boxes:
        raise Failure(
            "no-such-network", f"There is no isolated network of {mark}, so nothing could be asked there."
        )
    names = list(op.submission.args.get("names", ()))
    for box in boxes:
        box.names |= {(str(one["type"]), str(one["name"])): tuple(map(str, one["values"])) for one in names}
    return {}, {"named": sorted(str(one["name"]) for one in names)} if names else None


def wait_to_probe(world: World, op: Op) -> None:
    """What is asked answers some time after its machine is up; without that, the time limit ends it."""
    copy = _asked(world, op)
    if copy is None or not copy.powered or (op.fault and op.fault.effect == "hang"):
        return
    seconds = op.due_at - world.now
    limit = _limit(world, op, 300.0)
    op.due_at = min(max(copy.heartbeat_at, world.now) + seconds, max(limit, op.due_at))
    world.waiters.setdefault(copy.name, set()).add(op.key)


def _asked(world: World, op: Op) -> Copy | None:
    """The copy that a probe is aimed at, by its name or by an address that it has."""
    address, mark = str(op.submission.args.get("address", "")), op.submission.args.get("mark")
    if not address:
        return world.copies.get(op.submission.subject)
    if op.submission.args.get("outside"):
        protocol = "udp" if op.submission.args.get("protocol") == "dns" else "tcp"
        return doors.behind(world, address, f"{protocol}/{op.submission.args.get('port')}")
    for copy in world.copies.values():
        held = [text for nic in copy.nics.values() for text in nic.get("addresses", [])]
        if copy.mark == mark and any(str(text).split("/")[0] == address for text in held):
            return copy
    return None


def probe(world: World, op: Op) -> Outcome:
    """Ask a copy as a client would."""
    args = op.submission.args
    copy, port, protocol = _asked(world, op), args.get("port"), str(args.get("protocol", "tcp"))
    if copy is None:
        raise Failure("no-answer", f"Nothing answers at {args.get('address') or op.submission.subject}.")
    copy = _up(world, copy.name)
    offers = world.known[copy.workload].offers
    service = next((service for service in offers if service.port == port), None)
    if service is None:
        raise Failure("no-answer", f"{copy.name} does not answer on port {port}.")
    if protocol == "http":
        body, status = f"{service.name} is up", 200
        if args.get("status", 200) != status or str(args.get("text", "")) not in body:
            raise Failure("wrong-answer", f"{copy.name} answered {status} with {body!r}.")
        return {"status": status, "text": body}, None
    if protocol == "tls":
        days = LEAST_DAYS + round(chance("certificate", copy.workload) * (MOST_DAYS - LEAST_DAYS))
        if days < int(args.get("days", 14)):
            raise Failure("certificate-ends", f"The certificate of {copy.name} is good for {days} more days.")
        return {"days": days}, None
    if protocol == "dns":
        return {
            "answered": f"dns {port}",
            "values": list(_named(world, copy.mark, str(args.get("name", "")))),
        }, None
    return {"answered": f"{protocol} {port}"}, None


def _named(world: World, mark: str, name: str) -> tuple[str, ...]:
    """What the isolated networks of a run say of a name."""
    boxes = [box for box in world.sandboxes.values() if box.mark == mark]
    return tuple(
        value for box in boxes[:1] for kind in ("A", "AAAA") for value in box.names.get((kind, name), ())
    )
