"""The practice world: one site as a pure model that is only ever told the time.

``submit`` takes an operation in, ``advance`` lets time pass. Nothing here reads a clock, draws a random
number that its seed does not fix, or does input or output: replaying the same calls gives the same world.
Times are seconds since 1970-01-01 UTC; machine seconds are divided by the pace of the operation.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import datetime
from fnmatch import fnmatchcase
from typing import Any

from maestoso.core.errors import NotFound
from maestoso.core.model.estate import Inventory, Workload
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import ChangeRate, RecoveryPoint
from maestoso.core.ports import SiteRefused
from maestoso.core.replication.change import (
    DAY_S,
    ChangeProfile,
    chance,
    derived_usual_bps,
    usual_rate,
)
from maestoso.core.runs.operations import OperationState
from maestoso.practice import landings
from maestoso.practice.durations import operation_s
from maestoso.practice.replication import Replication
from maestoso.practice.spec import Broken, Fault, SiteSpec, Switch, Trouble
from maestoso.practice.things import NEVER, Copy, Failure, NotYet, Op, OpenDoor, Sandbox
from maestoso.practice.verbs import ON_COPYING, VERBS
from maestoso.sites.contract import JournalEntry, Submission, UnderWay, WorkloadChange

RESTART_S = 20.0
"""Seconds after which the machines of a site that has power again are up."""

DARK_LOOK_S = 5.0


class World:
    """One practice site. ``past``: compute how the last days of copying went."""

    def __init__(self, spec: SiteSpec, created_at: datetime, *, past: bool = True) -> None:
        self.spec = spec
        self.created_at = created_at
        self.now = created_at.timestamp()
        self.ops: dict[str, Op] = {}
        self.due: list[tuple[float, int, str]] = []
        self.fences: dict[str, int] = {}
        self.reigns: dict[str, int] = {}
        self.faults: list[Fault] = []
        self.copies: dict[str, Copy] = {}
        self.sandboxes: dict[str, Sandbox] = {}
        self.doors: dict[tuple[str, str], OpenDoor] = {}  # opened by runs, by mark and name
        self.closed_doors: set[str] = set()  # of the inventory
        self.inventory = spec.inventory
        self.held: dict[str, Landing] = {}
        self.held_at: dict[tuple[str, str], str] = {}  # for whom an address is held, by network and address
        self.held_changes = 0
        self.journal: list[JournalEntry] = []
        self.changed: list[str] = []  # the feed: keys in the order of their changes
        self.machines: dict[str, Copy] = {}  # the site's own, as far as anything was done with them
        self._home: tuple[Inventory, dict[str, Workload]] | None = None
        self.woken: set[str] = set()  # host pools whose standby hosts carry load now
        self.dark = False  # the whole site has no power
        self.power_back_at = NEVER
        self.lit: set[str] = set()  # what had power when the site lost it
        self.skew_s = 0.0
        self.old_agent = False
        self.waiters: dict[str, set[str]] = {}
        self.memories = 1
        self.forgotten: list[Op] = []  # operations of which its agent lost the memory
        self.recalled: dict[str, list[Any]] = {}  # outcomes that a snapshot knows, while it is replayed
        self.replication = Replication(spec.code, spec.replicas, spec.links, self.now, past)
        self.known: dict[str, Workload] = {w.name: w for w in spec.copied.workloads}

    # --- what the protocol asks ---

    def submit(self, key: str, submission: Submission, now: float) -> OperationState:
        """Take an operation in, or answer a key that is known. Raises SiteRefused."""
        self.advance(now)
        known = self.ops.get(key)
        reigns = self.reigns.get(submission.installation, 0)
        if submission.reign < reigns:
            raise SiteRefused(
                "reign-past",
                f"Reign {reigns} of {submission.installation} conducts here; "
                f"reign {submission.reign} is past.",
            )
        if submission.installation:
            self.reigns[submission.installation] = submission.reign
        highest = self.fences.get(submission.run, 0)
        if submission.fence < highest:
            raise SiteRefused(
                "fence-too-low",
                f"Run {submission.run} is conducted under fence {highest}; fence {submission.fence} is past.",
            )
        self.fences[submission.run] = submission.fence
        if known is not None:
            return known.state()
        if submission.verb not in VERBS:
            raise SiteRefused("unknown-verb", f"This site does not know the operation {submission.verb!r}.")
        op = Op(key=key, submission=submission, due_at=self.now, accepted_at=self.now)
        op.fault = self.fault_for(submission)
        seconds = operation_s(self.spec.seed, submission.verb, key)
        if op.fault and op.fault.effect == "slow":
            seconds *= op.fault.factor
        op.due_at = NEVER if op.fault and op.fault.effect == "hang" else self.now + seconds / submission.pace
        self.ops[key] = op
        VERBS[submission.verb].accepted(self, op)
        self._schedule(op)
        self._note(op)
        if op.fault and op.fault.effect == "site-down":
            self.set_dark(True, now)
        return op.state()

    def advance(self, now: float) -> None:
        """Let time pass until ``now``; everything that falls due happens in the order of its time."""
        while self.due and self.due[0][0] <= now:
            at, _, key = heapq.heappop(self.due)
            if self.power_back_at <= at:
                self._restart(self.power_back_at)
            op = self.ops[key]
            if op.status == "running" and op.due_at == at:
                self.now = max(self.now, at)
                self._finish(op)
        if self.power_back_at <= now:
            self._restart(self.power_back_at)
        self.now = max(self.now, now)

    def care(self) -> None:
        """Let the copying come up to now. Not part of every advance: a rehearsal seldom looks at it."""
        self.replication.advance(self.now)

    def next_due(self) -> float | None:
        """When the next operation ends, if any is on its way."""
        while self.due:
            at, _, key = self.due[0]
            op = self.ops[key]
            if op.status == "running" and op.due_at == at:
                return at
            heapq.heappop(self.due)
        return None

    def operation(self, key: str) -> OperationState | None:
        """What became of a key; None for one that was never heard of."""
        op = self.ops.get(key)
        return op.state() if op else None

    def changes(self, after: int) -> tuple[list[OperationState], int]:
        """Operations that changed behind cursor ``after``, each once, as they are now; and the new cursor."""
        keys = dict.fromkeys(self.changed[after:])
        return [self.ops[key].state() for key in keys], len(self.changed)

    def points(self, group: str) -> tuple[RecoveryPoint, ...]:
        """Recovery points of a group that this site holds, oldest first. Raises NotFound."""
        self.care()
        known = self.replication.copying.get(group)
        if known is None:
            raise NotFound(f"Site {self.spec.code} holds no copies of a group {group!r}.")
        return tuple(known.points)

    def changes_of(self, group: str) -> tuple[ChangeRate, ...]:
        """Change rates of a group over two weeks, evenly spaced, oldest first."""
        return self.replication.series(group, self.now)

    def change_rates(self) -> tuple[WorkloadChange, ...]:
        """What every workload of this site changes, on average and in its busiest hour."""
        found = []
        for workload in self.inventory.workloads:
            usual = self.usual_bps(workload)
            profile = ChangeProfile(usual_bps=usual)
            peak = max(usual_rate(profile, hour * 3600.0) for hour in range(DAY_S // 3600))
            found.append(WorkloadChange(workload=workload.name, mean_bps=round(usual), peak_bps=round(peak)))
        return tuple(found)

    def usual_bps(self, workload: Workload) -> float:
        """Bytes a second that a workload changes on average."""
        return self.spec.usual_bps.get(workload.name, derived_usual_bps(workload))

    def remains(self, mark: str) -> list[str]:
        """Everything that still carries the mark of a run, in words."""
        copies = [f"copy {copy.name}" for copy in self.copies.values() if copy.mark == mark]
        boxes = [f"sandbox {box.name}" for box in self.sandboxes.values() if box.mark == mark]
        return copies + boxes + [f"front door {one.name}" for one in self.doors.values() if one.mark == mark]

    def add_fault(self, fault: Fault, now: float) -> None:
        """Misbehave from now on as ``fault`` says."""
        self.advance(now)
        self.faults.append(fault)

    def clear_faults(self, now: float) -> None:
        """Put all right again; operations that hang end now."""
        self.advance(now)
        self.care()
        self.faults.clear()
        self.replication.troubles.clear()
        self.skew_s = 0.0
        self.old_agent = False
        self.set_dark(False, now)
        for op in self.ops.values():
            if op.status == "running" and op.due_at == NEVER and op.fault:
                op.fault = None
                self.reschedule(op, self.now)

    def add_trouble(self, trouble: Trouble, now: float) -> None:
        """Let the copying misbehave from now on."""
        self.advance(now)
        self.care()
        self.replication.trouble(trouble)

    def set_away(self, source: str, reason: str, now: float) -> None:
        """Another site stopped answering, or (empty reason) answers again."""
        self.advance(now)
        self.care()
        if reason:
            self.replication.away[source] = reason
        else:
            self.replication.away.pop(source, None)

    def set_inventory(self, inventory: Inventory, now: float) -> None:
        """Have other things from now on."""
        self.advance(now)
        self.inventory = inventory

    def throw(self, switch: Switch, now: float) -> None:
        """Misbehave as a site from now on."""
        if switch.effect == "dark":
            self.set_dark(True, now)
        elif switch.effect == "skew":
            self.advance(now)
            self.skew_s = switch.amount
        elif switch.effect == "old-agent":
            self.old_agent = True
        elif switch.effect == "forgets":
            self._forget(now)
        else:
            self._lose_host(switch.subject, bool(switch.amount), now)

    def broken(self) -> Broken:
        """What is made to misbehave now."""
        return Broken(
            dark=self.dark, skew_s=self.skew_s, old_agent=self.old_agent, faults=tuple(self.faults),
            troubles=tuple(self.replication.troubles),
        )  # fmt: skip

    def _forget(self, now: float) -> None:
        """The agent is restored from an older state: what was under way ends nowhere, no key is known.

        What its machines are and do is not the agent's, and stays.
        """
        self.advance(now)
        self.care()
        self.forgotten += self.ops.values()
        self.ops, self.due, self.changed, self.waiters, self.fences = {}, [], [], {}, {}
        self.reigns = {}
        self.memories += 1

    @property
    def epoch(self) -> str:
        """Another text after every loss of memory."""
        return f"{self.created_at:%Y%m%d%H%M%S}-{self.memories}"

    def _lose_host(self, pool: str, restart: bool, now: float) -> None:
        """Every machine is on a host by its name; those on the first one lose their power."""
        self.advance(now)
        hosts = next((max(p.hosts, 1) for p in self.inventory.host_pools if p.name == pool), 1)
        pools = {workload.name: workload.host_pool for workload in self.inventory.workloads}
        for copy in [*self.copies.values(), *self.own()]:
            here = copy.host_pool == pool or pools.get(copy.name) == pool
            if copy.powered and here and int(chance("host", copy.workload) * hosts) == 0:
                self.cut_power(copy)
                if restart:
                    copy.powered, copy.heartbeat_at = True, now + RESTART_S

    def set_dark(self, dark: bool, now: float) -> None:
        """The whole site loses its power, or gets it back: its own machines then start by themselves."""
        self.advance(now)
        if dark:
            lit = [copy for copy in [*self.copies.values(), *self.own()] if copy.powered]
            for copy in lit:
                self.cut_power(copy)
            self.lit |= {copy.name for copy in lit}
            self.dark, self.power_back_at = True, NEVER
        elif self.dark:
            self.dark, self.power_back_at = False, now + RESTART_S

    def _restart(self, at: float) -> None:
        """What had power starts by itself, but for what was fenced meanwhile."""
        self.power_back_at = NEVER
        machines = [copy for name in sorted(self.lit) if (copy := self.machine(name)) is not None]
        self.lit.clear()
        for copy in machines:
            if not copy.fenced and not copy.powered and copy.registered:
                copy.powered, copy.heartbeat_at = True, at + RESTART_S
                landings.lease(self, copy)

    def own(self) -> list[Copy]:
        """The machines of the workloads that are at home here."""
        found = (self.machine(workload.name) for workload in self.inventory.workloads)
        return [copy for copy in found if copy is not None]

    def running(self) -> tuple[int, int]:
        """How many machines have power: for real, and as copies of a test."""
        at_home = self._at_home()
        known = [self.machines[name] for name in at_home if name in self.machines]
        untouched = 0 if self._off() else len(at_home) - len(known)
        lit = [copy for copy in [*known, *self.copies.values()] if copy.powered]
        real = sum(1 for copy in lit if copy.name == copy.workload)
        return untouched + real, len(lit) - real

    def under_way(self) -> tuple[UnderWay, ...]:
        """How far groups are that are copied back."""
        found = []
        for _, _, key in self.due:
            op = self.ops[key]
            known = self.replication.copying.get(op.submission.subject)
            if op.status == "running" and op.submission.verb == "reverse-copying" and known is not None:
                one = UnderWay(
                    key=key, done_bytes=int(known.seeded), total_bytes=int(known.seed_bytes),
                    rate_bps=known.rate_bps * known.pace,
                )  # fmt: skip
                found.append(one)
        return tuple({one.key: one for one in found}.values())

    def off(self) -> tuple[str, ...]:
        """The machines of its own that have no power."""
        return tuple(name for name in self._at_home() if not self._lit(name))

    def _lit(self, name: str) -> bool:
        copy = self.copies.get(name) or self.machines.get(name)
        return copy.powered if copy is not None else not self._off()

    def answering(self, workloads: Iterable[str], mark: str = "") -> dict[str, tuple[str, ...]]:
        """Services that answer here: those of machines that are up and are no copies of a test.

        With the ``mark`` of a test, those of its copies and of nothing else.
        """
        copies = {copy.workload: copy for copy in self.copies.values() if copy.mark == mark} if mark else {}
        found = {}
        for name in workloads:
            copy = copies.get(name) if mark else self.machine(name)
            if copy is not None and copy.powered and copy.heartbeat_at <= self.now and copy.workload == name:
                found[name] = tuple(service.name for service in self.known[name].offers)
        return found

    # --- for the verbs ---

    def machine(self, name: str) -> Copy | None:
        """The machine of that name: a copy, or one of the site's own, on unless it was turned off."""
        known = self.copies.get(name) or self.machines.get(name)
        if known is None:
            workload = self._at_home().get(name)
            if workload is None:
                return None
            known = self.machines[name] = Copy(
                name=name, workload=name, mark="", point="", registered=True, powered=not self._off(),
                heartbeat_at=NEVER if self._off() else self.created_at.timestamp(),
                contents=self.created_at.timestamp(),
                nics={n.name: {"nic": n.name, "network": n.network, "mac": n.mac} for n in workload.nics},
            )  # fmt: skip
            self.known.setdefault(name, workload)
        return known

    def _off(self) -> bool:
        return self.dark or self.power_back_at < NEVER

    def _at_home(self) -> dict[str, Workload]:
        if self._home is None or self._home[0] is not self.inventory:
            self._home = (self.inventory, {w.name: w for w in self.inventory.workloads})
        return self._home[1]

    def cut_power(self, copy: Copy) -> None:
        """Off, with its disks as they are at this moment."""
        copy.powered, copy.powered_at, copy.heartbeat_at, copy.contents = False, 0.0, NEVER, self.now
        self.wake_waiters(copy.name)

    def hold(self, landing: Landing) -> None:
        """Keep a landing for a workload that may arrive."""
        self.release(landing.workload)
        self.held[landing.workload] = landing
        self.held_at |= dict.fromkeys(landing.places(), landing.workload)
        self.held_changes += 1

    def release(self, workload: str) -> bool:
        """Give a landing back; whether one was kept."""
        landing = self.held.pop(workload, None)
        if landing is None:
            return False
        for place in landing.places():
            self.held_at.pop(place, None)
        self.held_changes += 1
        return True

    def holds(self, group: str, workload: str) -> bool:
        """Whether copies of a workload are here."""
        if self.replication.frozen:
            return True
        known = self.replication.copying.get(group)
        return known is not None and workload in known.group.members

    def point_exists(self, group: str, point: str) -> bool:
        """Whether the point is or was held within the daily retention: a run keeps what it began with."""
        if self.replication.frozen:
            return True
        known = self.replication.copying.get(group)
        if known is None:
            return False
        if any(p.id == point for p in known.points):
            return True
        at = point.removeprefix(f"{group}@")
        if not at.isdigit():
            return False
        moment, policy = int(at), known.group.policy
        return self.now - policy.keep_daily_s <= moment <= self.now and moment % policy.interval_s == 0

    def reschedule(self, op: Op, at: float) -> None:
        """Let a running operation end at another time."""
        op.due_at = max(at, self.now)
        self._schedule(op)

    def wake_waiters(self, copy: str) -> None:
        """Operations that wait for a copy look again now."""
        for key in sorted(self.waiters.pop(copy, set())):
            if self.ops[key].status == "running":
                self.reschedule(self.ops[key], self.now)

    # --- inside ---

    def _schedule(self, op: Op) -> None:
        if op.due_at < NEVER:
            heapq.heappush(self.due, (op.due_at, len(self.ops), op.key))

    def _note(self, op: Op) -> None:
        self.changed.append(op.key)

    def _finish(self, op: Op) -> None:
        verb = VERBS[op.submission.verb]
        if op.submission.verb in ON_COPYING:
            self.care()
        try:
            if self.dark:
                # What was under way goes on when there is power again.
                raise NotYet(self.now + DARK_LOOK_S)
            if op.fault and op.fault.effect == "fail":
                raise Failure(op.fault.code, op.fault.reason)
            result, effect = self._recall(op) if op.key in self.recalled else verb.done(self, op)
        except NotYet as later:
            self.reschedule(op, later.at)
            return
        except Failure as failure:
            op.status, op.code, op.reason = "failed", failure.code, failure.reason
            op.settled_at = self.now
        else:
            op.status, op.result, op.settled_at = "done", result, self.now
            if effect is not None:
                self.journal.append(
                    JournalEntry(
                        seq=len(self.journal) + 1, at=self.now, key=op.key, fence=op.submission.fence,
                        verb=op.submission.verb, subject=op.submission.subject, effect=dict(effect),
                    )
                )  # fmt: skip
        self._note(op)

    def _recall(self, op: Op) -> tuple[Mapping[str, Any], Mapping[str, Any] | None]:
        """What became of an operation on the copying, whose state a snapshot holds."""
        status, result, code, reason, effect, *at = self.recalled[op.key]
        if at and self.now < at[0]:
            raise NotYet(at[0])
        if status == "failed":
            raise Failure(code, reason)
        if op.submission.verb == "clone-point":
            VERBS["clone-point"].done(self, op)
        return result, effect

    def outcomes(self) -> dict[str, list[Any]]:
        """Outcomes of all operations on the copying, for a snapshot."""
        effects = {entry.key: entry.effect for entry in self.journal}
        return {
            op.key: [op.status, dict(op.result), op.code, op.reason, effects.get(op.key), op.settled_at]
            for op in (*self.forgotten, *self.ops.values())
            if op.submission.verb in ON_COPYING and op.status in ("done", "failed")
        }

    def fault_for(self, submission: Submission) -> Fault | None:
        """How an operation misbehaves, if it does; a fault that happens only so often is used up by it."""
        for index, fault in enumerate(self.faults):
            if fault.verb in (submission.verb, "*") and fnmatchcase(submission.subject, fault.subject):
                if fault.times is not None:
                    left = replace(fault, times=fault.times - 1)
                    self.faults[index : index + 1] = [left] if left.times else []
                return fault
        return None
