"""Front doors of the host: who comes to an address of its, from outside, comes to a machine."""

from __future__ import annotations

import logging
import socket
import threading
from collections.abc import Iterable, Mapping
from functools import partial
from ipaddress import ip_address
from typing import Any

from maestoso.agent_kit import front_doors
from maestoso.agent_kit.platform import Failure, Operation

from .doorway import Addresses, Relay, Translation, Way
from .guest_machines import GuestMachines
from .hypervisor import NoMachine
from .networks import NetworkFault
from .settings import Settings

log = logging.getLogger("site-agent")
VERBS = frozenset({"publish-address", "withdraw-address"})
REACH_S = 5.0
Door = dict[str, Any]


class FrontDoors(GuestMachines):
    """The verbs about front doors, and what the rest of the agent asks about them.

    What is noted is what shall be; ``care`` has the host do so, also after it was started anew.
    """

    def __init__(self, settings: Settings) -> None:
        super().__init__(settings)
        told = settings.front_doors
        self._edge = Addresses(told.interface, told.addresses) if told else None
        self._translation = Translation(settings.site)
        self._relays: dict[Way, Relay] = {}
        self._shall: dict[tuple[str, str], Door | None] = {}
        self._doors_turn = threading.RLock()

    def verbs(self) -> list[str]:
        """Without an interface that doors could be at, there are none."""
        return [verb for verb in super().verbs() if self._edge is not None or verb not in VERBS]

    # --- what is noted ---

    def own_doors(self) -> list[Door]:
        """The site's own, those of the settings that were never taken over among them, open or not."""
        kept: dict[str, Door] = self.store.note("doors") or {}
        told = self.settings.front_doors
        first = {name: {**door, "open": True} for name, door in (told.own if told else {}).items()}
        # One that was given up is kept as None, so that the settings do not bring it back.
        return [door for door in {**first, **kept}.values() if door is not None]

    def doors_of(self, mark: str) -> list[Door]:
        """Those that a run opened."""
        return [one["door"] for one in self.store.notes("door:").values() if mark and one["mark"] == mark]

    def _opened(self) -> dict[tuple[str, str], Door]:
        """Every door that shall be open, by its mark (the site's own have none) and its name."""
        opened = {("", door["name"]): _said(door) for door in self.own_doors() if door["open"]}
        opened |= {(one["mark"], one["door"]["name"]): _said(one["door"])
                   for one in self.store.notes("door:").values()}  # fmt: skip
        # An operation that is being settled has done this already, and its notes are about to say so.
        for key, door in list(self._shall.items()):
            if opened.get(key) == door:
                del self._shall[key]
            elif door is None:
                opened.pop(key, None)
            else:
                opened[key] = door
        return opened

    def keep_doors(self, op: Operation, fresh: Iterable[Door], gone: Iterable[str] = ()) -> None:
        """These are the site's own from now on, and those are not."""
        kept = op.noted_before("doors") or {}
        made = {door["name"]: {**_said(door), "open": door.get("open", True)} for door in fresh}
        op.note("doors", {**kept, **made, **dict.fromkeys(gone)})

    def doors_said(self) -> list[Door]:
        """The site's own in the shape FrontDoor."""
        said = ("name", "address", "ports", "sources")
        return [
            {**{part: one[part] for part in said}, "workload": one["machine"]} for one in self.own_doors()
        ]

    # --- verbs ---

    def publish_address(self, op: Operation) -> None:
        """All of them, or none; the host does it before it is said to be done."""
        mark, doors = op.args["mark"], op.args["doors"]
        front_doors.checked(mark, doors, self._opened())
        for door in doors:
            self._refuse_impossible(door)
        self._change(op, {(mark, door["name"]): _said(door) for door in doors})
        for door in doors:
            if mark:
                op.note(f"door:{mark}/{door['name']}", {"mark": mark, "door": door})
        if not mark:
            self.keep_doors(op, doors)
        op.effect(published=[door["name"] for door in doors])

    def _change(self, op: Operation, changes: Mapping[tuple[str, str], Door | None]) -> None:
        """Have the host do it now. What it refuses shall not be."""
        with self._doors_turn:
            self._shall |= changes
            try:
                self._host(lambda: self._lead(self._opened().values()))
            except Failure:
                for key in changes:
                    self._shall.pop(key, None)
                self.look_after_doors()
                raise

    def _refuse_impossible(self, door: Mapping[str, Any]) -> None:
        self._described(door["machine"])
        if self._edge is None or not self._edge.can(door["address"]):
            raise Failure("address-not-here", f"{door['address']} cannot be published here.")
        test = bool(self.hypervisor.kept(door["machine"]).get("test"))
        odd = [port for port in door["ports"] if test and not port.startswith("tcp/")]
        if odd:
            raise Failure("address-not-here", f"A door to a copy of a test has TCP ports only, not {odd[0]}.")

    def withdraw_address(self, op: Operation) -> None:
        """Nobody comes in by them any more."""
        mark, opened = op.args["mark"], self._opened()
        closed = sorted(name for name in set(op.args["doors"]) if (mark, name) in opened)
        self._change(op, {(mark, name): None for name in closed})
        for name in closed if mark else ():
            op.note(f"door:{mark}/{name}", None)
        if closed and not mark:
            self.keep_doors(op, ({**one, "open": False} for one in self.own_doors() if one["name"] in closed))
        if closed or op.again:
            op.effect(withdrawn=closed)

    # --- what the host does ---

    def look_after_doors(self) -> None:
        """The host does what is noted: a machine came up, or the host was started anew."""
        if self._edge is not None:
            with self._doors_turn:
                try:
                    self._lead(self._opened().values())
                except NetworkFault as error:
                    log.warning("Front doors are not as they shall be: %s", error)

    def _lead(self, opened: Iterable[Door]) -> None:
        """Addresses first, and closed doors go with theirs. Raises NetworkFault."""
        if self._edge is None:
            return
        known = list(opened)
        ways = [(door["machine"], way) for door in known for way in self._ways(door)]
        tests = {name for name, _ in ways if self.hypervisor.kept(name).get("test")}
        self._edge.have({door["address"] for door in known})
        self._translation.have(way for name, way in ways if name not in tests)
        wanted = {way: name for name, way in ways if name in tests}
        for way in set(self._relays) - set(wanted):
            self._relays.pop(way).close()
        for way, name in wanted.items():
            if way not in self._relays:
                try:
                    self._relays[way] = Relay(way, partial(self._line_to, name, way))
                except OSError as error:
                    raise NetworkFault(f"{way.address} port {way.port}: {error.strerror}.") from error

    def _ways(self, door: Door) -> Iterable[Way]:
        """Each port, to the address of its family that the machine has; none where it has none yet."""
        try:
            self.hypervisor.machine(door["machine"])
            found = self._addresses(door["machine"]) if self.hypervisor.running(door["machine"]) else []
        except NoMachine:
            return
        version = ip_address(door["address"]).version
        to = next((one for one in found if ip_address(one).version == version), "")
        for port in door["ports"] if to else ():
            protocol, _, number = port.partition("/")
            yield Way(door["address"], protocol, int(number), to, tuple(door.get("sources", ())))

    def _line_to(self, name: str, way: Way) -> socket.socket:
        """To a copy, from inside of its isolated networks."""
        mark = self.hypervisor.kept(name)["mark"]
        return self.isolation.within(mark, lambda: socket.create_connection((way.to, way.port), REACH_S))


def _said(door: Mapping[str, Any]) -> Door:
    return {name: door[name] for name in ("name", "address", "ports", "machine")} | {
        "sources": list(door.get("sources", ()))
    }
