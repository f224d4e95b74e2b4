"""Copies of groups of other sites: what is due, how it goes, and the verbs about it."""

from __future__ import annotations

import logging
import threading
import time
from collections import defaultdict, deque
from collections.abc import Callable, Mapping
from itertools import pairwise
from typing import Any

from maestoso.agent_kit.platform import Failure, NotKnown, Operation
from maestoso.core.codec import from_data
from maestoso.core.model.estate import Link
from maestoso.core.model.protection import Policy
from maestoso.core.replication.retention import ladder_times
from maestoso.core.replication.throttle import room_bps

from . import encryption
from .between import AgentAway
from .chains import Image, ImageFault
from .copies import MOST_POINTS, GroupCopies
from .files import seconds
from .host import Host
from .settings import Settings

log = logging.getLogger("site-agent")
NO_KEY = "Its copies are encrypted, and their key is not here yet. Maestoso gives it with the group."
STAY = (
    "policy.encrypted: there are copies of it here {kind}, and they stay so. End its protection and protect"
    " it again; then it is copied as a whole."
)
OTHER_KEY = (
    "There are files of it here that are encrypted with another key ({}, and this one is {}). End its"
    " protection and protect it again; then it is copied as a whole."
)
LAG_EVERY_S = 900
LAGS_KEPT = 96


class Copying(Host):
    """Copying by itself, and when asked for."""

    def __init__(self, settings: Settings) -> None:
        super().__init__(settings)
        self._copying: dict[str, _Progress] = defaultdict(_Progress)
        self._away: dict[str, str] = {}
        self._under_way: set[str] = set()
        self._paces: dict[str, _Pace] = {}

    def groups(self) -> list[dict[str, Any]]:
        """How the copying of each group stands."""
        return [self._group_state(code, told) for code, told in self.store.notes("group:").items()]

    def _group_state(self, code: str, told: Mapping[str, Any]) -> dict[str, Any]:
        held, progress = self.copies.of(code), self._copying[code]
        points = held.points()
        source = told["group"]["source"]
        whole = held.kept_bytes() if points else 0
        rate = room_bps(_link(told), time.time()) if told.get("link") else 0.0
        quiet = told["paused_because"] or told["promoted"] is not None
        return {
            "group": code, "source": source, "digest": told["digest"],
            "newest": _shown(points[-1]) if points else None,
            "seeded_bytes": whole if points else progress.done,
            "seed_bytes": whole if points else max(progress.total, 1),
            "paused_because": told["paused_because"],
            "stalled_because": "" if quiet else progress.stalled_because,
            "backlog_bytes": max(progress.total - progress.done, 0) if progress.under_way else 0,
            "rate_bps": progress.rate() if progress.under_way else 0.0, "room_bps": rate,
            "change_bps": _change_rates(points)[-1]["rate_bps"] if len(points) > 1 else 0.0,
            "cycles": progress.cycles(), "failed": progress.failures(),
            "encrypted_with": held.key.fingerprint if held.key else "",
            "kept_points": len(points), "kept_bytes": whole, "promoted": told["promoted"] is not None,
        }  # fmt: skip

    def links(self) -> list[dict[str, Any]]:
        """The lines from other sites, as far as groups come over them."""
        notes = self.store.notes("group:").values()
        found = []
        for code in self.others:
            groups = [told for told in notes if told["group"]["source"] == code]
            room = max(
                (room_bps(_link(told), time.time()) for told in groups if told.get("link")), default=0.0
            )
            used = sum(self._copying[told["group"]["code"]].rate() for told in groups)
            found.append(
                {"source": code, "room_bps": room, "used_bps": used, "cut_because": self._away.get(code, "")}
            )
        return found

    def points(self, group: str) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
        """Points of a group, oldest first, and how fast it changed between them."""
        if self.store.note(f"group:{group}") is None:
            raise NotKnown(f"No copies of a group {group!r} are held here.")
        points = self.copies.of(group).points()
        return [_shown(point) for point in points], _change_rates(points)

    def lags(self) -> dict[str, Any]:
        """The worst lag of each group in each quarter of an hour."""
        return {
            "every_s": LAG_EVERY_S,
            "groups": {code: list(self._copying[code].lags) for code in self.store.notes("group:")},
        }

    def care(self) -> None:
        """Begin what is due to be copied, thin points out, end what nobody reads any more."""
        self.source.tidy()
        now = time.time()
        for code, told in self.store.notes("group:").items():
            quiet = told["paused_because"] or told["promoted"] is not None
            points = self.copies.of(code).points()
            age = now - seconds(points[-1]["at"]) if points else now - told["since"]
            if not quiet:
                self._copying[code].note_lag(now, age)
            due = age >= told["group"]["policy"]["interval_s"] if points else self._may_begin(told, now)
            if not quiet and due and code not in self._under_way and self._copying[code].may_try():
                self._under_way.add(code)
                self._work.submit(self._copy_when_due, code)

    def _may_begin(self, told: Mapping[str, Any], now: float) -> bool:
        """Whether the first copy may begin: at its time, or once every disk of it was carried here."""
        policy, held = told["group"]["policy"], self.copies.of(told["group"]["code"])
        if policy["initial"] == "at" and policy["initial_at"]:
            return now >= seconds(policy["initial_at"])
        if policy["initial"] == "seed":
            missing = [
                f"{name}-{disk}" for name, disks in _members(told).items() for disk in disks["disks"]
                if held.carried(name, disk) is None
            ]  # fmt: skip
            how = ", encrypted with its key" if policy["encrypted"] else ""
            waits = (
                f"It waits for its seed: {', '.join(missing)} in {held.folder / 'seed'}{how}."
                if missing
                else ""
            )
            self._copying[told["group"]["code"]].stalled_because = waits
            return not missing
        return True

    def _copy_when_due(self, code: str) -> None:
        try:
            with self._group_turns[code]:
                told = self._group(code)
                if told is not None and not told["paused_because"] and told["promoted"] is None:
                    self._copy(told)
                    self.copies.of(code).thin(told["group"]["policy"], time.time(), self._in_use())
        except (AgentAway, ImageFault) as error:
            log.warning("no point of %s: %s", code, error)
        except Failure as failure:  # it could not even begin
            log.warning("no point of %s: %s", code, failure)
            self._copying[code].end(failure.reason)
        except Exception:
            log.exception("the copying of %s went wrong; it is tried again", code)
        finally:
            self._under_way.discard(code)

    def _copy(self, told: Mapping[str, Any], bases: Mapping[tuple[str, str], Image] | None = None,
              watch: Callable[[int, int, float], None] | None = None) -> dict[str, Any]:  # fmt: skip
        """A new point of a group. Raises AgentAway, ImageFault, Failure."""
        group, progress = told["group"], self._copying[told["group"]["code"]]
        other = self.others.get(group["source"])
        if other is None:
            raise Failure(
                "no-such-site", f"The agent of {group['source']} is not in the settings of this one."
            )
        held = self.copies.of(group["code"])
        if group["policy"]["encrypted"] and held.key is None:
            raise Failure("stalled", NO_KEY)
        progress.begin()

        def came(done: int, total: int) -> None:
            progress.note(done, total)
            if watch is not None:
                watch(done, total, progress.rate())

        try:
            point = held.receive(
                other, _members(told), application=_application_due(held, group["policy"]), bases=bases or {},
                told=came,
                pace=self._pace(told),
            )  # fmt: skip
        except (AgentAway, ImageFault) as error:
            progress.end(str(error))
            self._away[group["source"]] = str(error) if other.there() else ""
            raise
        progress.end("")
        self._away[group["source"]] = ""
        return point

    def _pace(self, told: Mapping[str, Any]) -> _Pace:
        """That of the line to the group's source, which all groups share."""
        link = _link(told) if told.get("link") else None
        pace = self._paces.setdefault(told["group"]["source"], _Pace())
        pace.room = lambda: room_bps(link, time.time()) if link is not None else 0.0
        return pace

    def protect(self, op: Operation) -> dict[str, Any]:
        """Copy a group from now on."""
        group, before = op.args["group"], self._group(op.subject)
        check_policy(group["policy"])
        there = self.copies.of(op.subject).encrypted()
        if there is not None and there != group["policy"]["encrypted"]:
            # Those of one kind lie over those of the other for good, and where all is said to be in clear,
            # nobody gives the key again.
            raise Failure("bad-definition", STAY.format(kind="that are encrypted" if there else "in clear"))
        self._take_key(op, lasting=_is_promoted(before))
        told = told_of(op)
        if before is None or {name: before.get(name) for name in told} != told:
            known = before or {"paused_because": "", "promoted": None, "since": time.time()}
            op.note(f"group:{op.subject}", {**known, **told})
            op.effect(protected=op.subject)
        elif op.again:
            op.effect(protected=op.subject)
        return {"digest": op.args["digest"]}

    def _take_key(self, op: Operation, *, lasting: bool) -> None:
        """Hold the key that came with a group whose copies are encrypted. Raises Failure."""
        if not op.args["group"]["policy"]["encrypted"]:
            return
        held, secret = self.copies.of(op.subject), op.secrets.get("key", "")
        if secret:
            key = encryption.made_from(held.folder, op.subject, secret)
            if held.key is not None and held.key.fingerprint != key.fingerprint:
                # Files that machines, or tests, may need would never open again.
                raise Failure("bad-definition", OTHER_KEY.format(held.key.fingerprint, key.fingerprint))
            self.hypervisor.keep_key(key, lasting=lasting)
            encryption.hold(key)
        elif not op.again:
            raise Failure("key-missing")
        elif held.key is None:
            raise Failure("interrupted")  # before it was taken

    def unprotect(self, op: Operation) -> None:
        """Forget a group and its points; files that a machine lies over stay."""
        with self._group_turns[op.subject]:
            held = self.copies.of(op.subject)
            held.forget(self._machine_files("given_up"))
            if not held.folder.exists():
                self.hypervisor.forget_key(held.folder)
                encryption.let_go(held.folder)
            if self._group(op.subject) is not None or op.again:
                op.note(f"group:{op.subject}", None)
                op.effect(unprotected=op.subject)
        self._copying.pop(op.subject, None)

    def pause_copying(self, op: Operation) -> None:
        """Pause with a reason, or go on."""
        told = self._needed(op.subject)
        op.note(f"group:{op.subject}", {**told, "paused_because": op.args["because"]})
        op.effect(paused_because=op.args["because"])

    def pin_point(self, op: Operation) -> None:
        """Give a point a label; an empty one lets it go."""
        held = self.copies.of(op.subject)
        with self._group_turns[op.subject]:
            held.save_point({**held.point(op.args["point"]), "label": op.args["label"]})
        op.effect(point=op.args["point"], label=op.args["label"])

    def sync(self, op: Operation) -> dict[str, Any]:
        """Make a point now."""
        with self._group_turns[op.args["group"]]:
            told = self._needed(op.args["group"])
            if told["promoted"] is not None:
                raise Failure(
                    "promoted", f"The copies of {op.args['group']} are written to here; nothing is copied."
                )
            point = self._copied(lambda: self._copy(told, watch=op.progress))
        op.effect(point=point["id"])
        return {"point": point["id"], "at": point["at"]}

    def _copied(self, work: Callable[[], dict[str, Any]]) -> dict[str, Any]:
        try:
            return work()
        except (AgentAway, ImageFault) as error:
            raise Failure("stalled", str(error)) from error


class _Progress:
    """How the copying of one group goes, for people who watch."""

    def __init__(self) -> None:
        self.done = 0
        self.total = 0
        self.under_way = False
        self.stalled_because = ""
        self.lags: deque[float] = deque(maxlen=LAGS_KEPT)
        self._lag_stretch = 0
        self._began = 0.0
        self._again_at = 0.0
        self._ended: deque[tuple[float, str]] = deque(maxlen=1000)

    def begin(self) -> None:
        self.done = self.total = 0
        self.under_way = True
        self._began = time.monotonic()

    def note(self, done: int, total: int) -> None:
        self.done, self.total = done, total

    def end(self, why: str) -> None:
        """It ended, with a fault or without one; after a fault it is tried again a little later."""
        self.under_way = False
        self.stalled_because = why
        self._again_at = time.monotonic() + (5.0 if why else 0.0)
        self._ended.append((time.monotonic(), why))

    def may_try(self) -> bool:
        return time.monotonic() >= self._again_at

    def rate(self) -> float:
        """Bytes a second since it began."""
        return self.done / max(time.monotonic() - self._began, 0.1) if self.under_way else 0.0

    def _last_hour(self) -> list[str]:
        return [why for at, why in self._ended if at > time.monotonic() - 3600]

    def cycles(self) -> int:
        return len(self._last_hour())

    def failures(self) -> dict[str, int]:
        found: dict[str, int] = {}
        for why in self._last_hour():
            if why:
                found[why] = found.get(why, 0) + 1
        return found

    def note_lag(self, now: float, lag: float) -> None:
        stretch = int(now // LAG_EVERY_S)
        if stretch != self._lag_stretch or not self.lags:
            self._lag_stretch = stretch
            self.lags.append(lag)
        self.lags[-1] = max(self.lags[-1], lag)


class _Pace:
    """Of one line: whoever copies over it waits where all together are faster than its room, in bytes a
    second (0: no limit)."""

    def __init__(self) -> None:
        self.room: Callable[[], float] = lambda: 0.0
        self._turn = threading.Lock()
        self._free_at = time.monotonic()

    def __call__(self, amount: int) -> None:
        room = self.room()
        if room <= 0:
            return
        with self._turn:
            now = time.monotonic()
            self._free_at = max(self._free_at, now) + amount / room
            wait = self._free_at - now
        time.sleep(wait)


def _members(told: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """The disks of each machine that are copied."""
    return {
        name: {"disks": [disk["name"] for disk in spec["disks"] if not disk.get("left_out_because")]}
        for name, spec in told["specs"].items()
    }


def check_policy(policy: Mapping[str, Any]) -> None:
    """Raises Failure for one that keeps more points than can be."""
    rules = from_data(Policy, dict(policy), tolerant=True)
    kept = len(ladder_times(rules, int(time.time())))
    if kept > MOST_POINTS:
        raise Failure(
            "bad-definition",
            f"policy: it keeps up to {kept} points at once, and this agent can keep {MOST_POINTS}, as libvirt"
            f" wants no disk of more files than 200. Keep {MOST_POINTS} at most (most_points), or all points"
            " for less time.",
        )


def _is_promoted(told: Mapping[str, Any] | None) -> bool:
    return told is not None and told["promoted"] is not None


def told_of(op: Operation) -> dict[str, Any]:
    """What is kept of a group: its source may be gone when its copies are needed."""
    specs = {spec["name"]: spec for spec in op.args["workloads"]}
    return {"group": op.args["group"], "digest": op.args["digest"], "specs": specs, "link": op.args["link"]}


def _application_due(held: GroupCopies, policy: Mapping[str, Any]) -> bool:
    every = policy["app_consistent_every_s"]
    made = [seconds(point["at"]) for point in held.points() if point["kind"] == "application-consistent"]
    return bool(every) and (not made or time.time() - made[-1] >= every)


def _link(told: Mapping[str, Any]) -> Link:
    return from_data(Link, dict(told["link"]), tolerant=True)


def _shown(point: Mapping[str, Any]) -> dict[str, Any]:
    """As the protocol says it."""
    names = ("id", "group", "at", "kind", "changed_bytes", "label")
    return {name: point[name] for name in names if name in point}


def _change_rates(points: list[dict[str, Any]]) -> list[dict[str, Any]]:
    found = []
    for before, after in pairwise(points):
        length = max(seconds(after["at"]) - seconds(before["at"]), 1.0)
        found.append({"at": after["at"], "rate_bps": after["changed_bytes"] / length})
    return found
