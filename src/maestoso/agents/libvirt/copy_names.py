"""Names by which copies of a test find each other, answered where they ask."""

from __future__ import annotations

import logging
import threading
from typing import Any

from maestoso.agent_kit.platform import Failure, Operation

from .guest_machines import GuestMachines
from .networks import NetworkFault, ip
from .resolver import Names, Resolver
from .settings import Settings

log = logging.getLogger("site-agent")


class CopyNames(GuestMachines):
    """The verb for that. What is noted with the networks is what shall be; ``care`` has it be so."""

    def __init__(self, settings: Settings) -> None:
        super().__init__(settings)
        self._resolvers: dict[str, Resolver] = {}
        self._names_turn = threading.RLock()

    def name_copies(self, op: Operation) -> None:
        """Answer at the name servers that copies ask, unless those are copies themselves, and at gateways."""
        mark = op.args["mark"]
        boxes = {name: box for name, box in self.store.notes("sandbox:").items() if box["mark"] == mark}
        if not boxes:
            raise Failure("no-such-network")
        told = {(one["name"].lower(), one["type"]): tuple(one["values"]) for one in op.args["names"]}
        names = {**_names(boxes), **told}
        asked, held = self._asked(mark)
        if asked and asked <= held:
            raise Failure(
                "no-answer",
                f"The copies ask {', '.join(sorted(asked))} for names: a copy itself, which is told nothing.",
            )
        routers = {at.split("/")[0] for box in boxes.values() for at in self._gateways(box)}
        at = tuple(sorted((asked | routers) - held))
        if not at:
            raise Failure("no-answer", "The copies ask no name server, and their networks have no gateway.")
        with self._names_turn:
            self._host(lambda: self._answer(mark, at, names))
        listed = [[name, kind, list(values)] for (name, kind), values in names.items()]
        for name, box in boxes.items():
            op.note(f"sandbox:{name}", {**box, "names": listed, "names_at": list(at)})
        op.effect(named=sorted({name for name, _ in told}))

    def _asked(self, mark: str) -> tuple[set[str], set[str]]:
        """The addresses that the copies of a run ask for names, and those that they have."""
        asked: set[str] = set()
        held: set[str] = set()
        for name in self.hypervisor.names():
            kept = self.hypervisor.kept(name)
            if kept.get("mark") != mark or not kept.get("test"):
                continue
            told = dict(kept.get("addresses", []))
            seen = self._look(name) if self.hypervisor.running(name) else self._adapters(name)
            for nic in kept.get("nics", []):
                has = {**told.get(nic["mac"], {}), **seen.get(nic["mac"].lower(), {})}
                asked |= set(has.get("dns", ()))
                held |= {address.split("/")[0] for address in has.get("addresses", ())}
        return asked, held

    def _answer(self, mark: str, at: tuple[str, ...], names: Names) -> None:
        known = self._resolvers.get(mark)
        if known is not None and known.addresses == at:
            known.names = dict(names)
            return
        if known is not None:
            known.close()
        space = self.isolation.space(mark)
        for address in at:  # a gateway stands on a bridge already, and does so here as well
            ip("-n", space, "address", "replace", f"{address}/{128 if ':' in address else 32}", "dev", "lo")
        try:
            self._resolvers[mark] = Resolver(at, names, lambda work: self.isolation.within(mark, work))
        except OSError as error:
            raise NetworkFault(f"Nothing can listen at {', '.join(at)}: {error.strerror}.") from error

    def look_after_names(self) -> None:
        """After the agent was started anew, and when networks are gone."""
        with self._names_turn:
            wanted: dict[str, dict[str, Any]] = {}
            for name, box in self.store.notes("sandbox:").items():
                if box.get("names_at"):
                    wanted.setdefault(box["mark"], {})[name] = box
            for mark in set(self._resolvers) - set(wanted):
                self.names_end(mark)
            for mark, boxes in wanted.items():
                if mark not in self._resolvers and self.isolation.there(mark):
                    try:
                        self._answer(mark, tuple(next(iter(boxes.values()))["names_at"]), _names(boxes))
                    except NetworkFault as error:
                        log.warning("Names of %s are not answered: %s", mark, error)

    def names_end(self, mark: str) -> None:
        """Nothing listens in the networks of a run any more: they go."""
        with self._names_turn:
            known = self._resolvers.pop(mark, None)
            if known is not None:
                known.close()


def _names(boxes: dict[str, Any]) -> dict[tuple[str, str], tuple[str, ...]]:
    """What the networks of a run were told before."""
    return {
        (name, kind): tuple(values) for box in boxes.values() for name, kind, values in box.get("names", ())
    }
