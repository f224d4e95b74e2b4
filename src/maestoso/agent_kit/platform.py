"""What an agent is beside this kit: a platform with one method a verb, and what it says of its site."""

from __future__ import annotations

import hashlib
import json
import threading
import time
from collections.abc import Callable, Iterable, Mapping
from datetime import UTC, datetime
from typing import Any

from .protocol import REFUSALS, VERBS
from .store import Kept, Store


class Failure(Exception):
    """An operation ends without its effect. ``code`` is one of the protocol's, or one of the platform's
    own."""

    def __init__(self, code: str, reason: str = "") -> None:
        super().__init__(reason or REFUSALS.get(code, code))
        self.code = code
        self.reason = reason or REFUSALS.get(code, code)


class NotKnown(Exception):
    """What was asked about (a group, say) is not here; the text says so."""


class Stopped(BaseException):
    """The agent stops. What was under way is taken up again when it is back."""


class Operation:
    """One operation that the platform shall do.

    ``args`` has everything that may be left out filled in. ``again``: it may have been begun before the agent
    was restarted, so look first what is there already. ``secrets`` are those that came along; never write
    them down.
    """

    def __init__(
        self, kept: Kept, args: Mapping[str, Any], store: Store, *, secrets: Mapping[str, str], again: bool,
        stop: threading.Event, under_way: dict[str, dict[str, Any]],
    ) -> None:  # fmt: skip
        self.key = kept.key
        self.run = kept.run
        self.verb = kept.verb
        self.subject = kept.subject
        self.args = args
        self.secrets = secrets
        self.again = again
        self.store = store
        self.had_effect: dict[str, Any] | None = None
        self.noted: dict[str, Any] = {}
        self.waited_since: float | None = None
        self.accepted_at = kept.accepted_at
        self._stop = stop
        self._under_way = under_way

    def effect(self, **what: Any) -> None:
        """It had an effect, which is written into the journal together with its end."""
        self.had_effect = {**(self.had_effect or {}), **what}

    def progress(self, done_bytes: int, total_bytes: int, rate_bps: float = 0.0) -> None:
        """How far it is, for people who watch; ``rate_bps`` is bytes a second now."""
        told = {"key": self.key, "done_bytes": done_bytes, "total_bytes": total_bytes, "rate_bps": rate_bps}
        self._under_way[self.key] = told

    def note(self, name: str, value: Any) -> None:
        """Keep something of the platform's own (None lets it go) in the transaction that settles this
        operation."""
        self.noted[name] = value

    def noted_before(self, name: str) -> Any:
        """What was noted under a name, by this operation or an earlier one."""
        return self.noted[name] if name in self.noted else self.store.note(name)

    def wait(self, seconds: float) -> None:
        """Sleep, in an operation that waits for something; ends at once when the agent stops."""
        if self._stop.wait(seconds):
            raise Stopped

    def until(self, ready: Callable[[], Any], limit_s: float, pause_s: float = 0.2) -> Any:
        """Look until something is there, and return it; None at the limit."""
        end = time.monotonic() + limit_s
        while not (found := ready()):
            if time.monotonic() >= end:
                return None
            self.wait(min(pause_s, max(end - time.monotonic(), 0.01)))
        return found

    def waits_since(self, moment: float) -> None:
        """What this waits for (a boot) has been under way since then, in seconds since 1970."""
        self.waited_since = moment

    def before_s(self) -> float:
        """How long what it waited for had been under way before it was asked for."""
        return 0.0 if self.waited_since is None else max(self.accepted_at - self.waited_since, 0.0)


class Platform:
    """A site. Give every verb that it has a method of that name with underscores: ``def make_sandbox(self,
    op)``.

    A method returns the result of the verb (a dict, or None where there is none), calls ``op.effect(...)``
    when it changed something, and raises Failure where it cannot. Methods about the same subject are called
    one after the other in the order in which they were asked for, all others at the same time, each in a
    thread; verbs that wait (``await-heartbeat``, ``probe``, ``probe-service``, ``run-script``) never hold
    others up. A method may be called once more with ``op.again`` after the agent was killed in the middle of
    it. It must then finish what is missing, and say its effect all the same: the journal has none of it yet.

    What the site is asked outside of operations has a method here; those with a body may stay as they are.
    """

    site = "SITE"
    """The code of the site, as Maestoso knows it."""
    name = "site agent"
    """What the agent is called, and its version."""
    care_every_s = 5.0
    goes_on_without_secrets: frozenset[str] = frozenset()
    """Verbs that are taken up again after a restart, though the secrets that came along are gone."""
    store: Store
    """What the kit keeps; set before the first call."""

    def verbs(self) -> list[str]:
        """The verbs that it has."""
        return sorted(verb for verb in VERBS if callable(getattr(self, method_of(verb), None)))

    # --- what the site is and has ---

    def inventory(self) -> dict[str, Any]:
        """Pools, networks and workloads: the shape Inventory."""
        raise NotImplementedError

    def inventory_mark(self) -> str:
        """A text that changes with the inventory; give a cheaper one where that is large."""
        said = json.dumps(self.inventory(), sort_keys=True)
        return hashlib.sha256(said.encode()).hexdigest()[:16]

    def groups(self) -> list[dict[str, Any]]:
        """How the copying of every group to this site stands: shapes CopyState."""
        return []

    def links(self) -> list[dict[str, Any]]:
        """The links over which copies come: shapes LinkState."""
        return []

    def points(self, group: str) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
        """Points of a group, oldest first (RecoveryPoint), and its change rates (ChangeRate). Raises
        NotKnown."""
        raise NotKnown(f"No copies of a group {group!r} are held here.")

    def lags(self) -> dict[str, Any]:
        """The worst lag of each group over the last day: the shape Lags."""
        return {"every_s": 900, "groups": {}}

    def change_rates(self) -> list[dict[str, Any]]:
        """How fast each workload of this site changes: shapes WorkloadChange."""
        return []

    def running(self) -> tuple[int, int]:
        """How many machines have power: for real, copies that were failed over included, and copies of
        tests."""
        raise NotImplementedError

    def off(self) -> list[str]:
        """The names of its own machines that have no power."""
        return []

    def answering(self, workloads: Iterable[str], mark: str) -> dict[str, list[str]]:
        """By workload, the names of its services that answer now; with a mark, on that test's copies only."""
        return {}

    def remains(self, mark: str) -> list[str]:
        """What still carries the mark of a run, in words."""
        raise NotImplementedError

    def refuses_landing(self, landing: Mapping[str, Any]) -> str:
        """Why a landing cannot be held, as a sentence; empty where it can."""
        return ""

    def clock(self) -> datetime:
        """What the site believes the time to be."""
        return datetime.now(UTC)

    def care(self) -> None:
        """What goes on by itself (copying, retention); called every ``care_every_s`` seconds, never twice
        at once."""

    # --- verbs that every site does alike ---

    def ask_site(self, op: Operation) -> dict[str, Any]:
        """That it answers is the answer."""
        return {"site": self.site}

    def leak_check(self, op: Operation) -> None:
        """Fails while anything of a run is left."""
        left = self.remains(op.args["mark"])
        if left:
            raise Failure("remains", f"Something of the run is left: {', '.join(left)}.")

    def hold_landings(self, op: Operation) -> dict[str, Any]:
        """Keep landings, but for those that cannot be and those with an address that is held already."""
        held = self.store.held()
        refused: dict[str, str] = {}
        kept: dict[str, Any] = {}
        for landing in op.args["landings"]:
            taken = {at: name for name, one in {**held, **kept}.items() for at in places(one)}
            name = landing["workload"]
            other = next((taken[at] for at in places(landing) if taken.get(at, name) != name), "")
            reason = self.refuses_landing(landing)
            if reason or other:
                refused[name] = reason or f"An address of {name} is held for {other} already."
            else:
                kept[name] = landing
        changed = self.store.hold(kept)
        if changed:
            op.effect(held=changed)
        return {"refused": refused}

    def release_landings(self, op: Operation) -> None:
        """Give landings back."""
        gone = self.store.hold({}, tuple(op.args["workloads"]))
        if gone:
            op.effect(released=gone)


def places(landing: Mapping[str, Any]) -> list[tuple[str, str]]:
    """Network and address of everything that a landing has."""
    return [
        (nic["network"], address.split("/")[0])
        for nic in landing.get("nics", [])
        for address in nic.get("addresses", [])
    ]


def method_of(verb: str) -> str:
    """The name of a verb's method."""
    return verb.replace("-", "_")
