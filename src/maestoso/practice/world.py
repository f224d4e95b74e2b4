"""The practice world: one site as a pure model that is only ever told the time.

``submit`` takes an operation in, ``advance`` lets time pass. Nothing here reads a clock, draws a random
number that its seed does not fix, or does input or output: replaying the same calls gives the same world.
Times are seconds since 1970-01-01 UTC; machine seconds are divided by the pace of the operation.
"""

from __future__ import annotations

import heapq
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from fnmatch import fnmatchcase

from maestoso.core.errors import NotFound
from maestoso.core.model.estate import Inventory, Workload
from maestoso.core.model.protection import ChangeRate, RecoveryPoint
from maestoso.core.ports import SiteRefused
from maestoso.core.replication.points import change_series, point_at, points
from maestoso.core.runs.operations import OperationState
from maestoso.practice.durations import operation_s
from maestoso.practice.spec import Fault, SiteSpec
from maestoso.practice.things import NEVER, Copy, Failure, Op, Sandbox
from maestoso.practice.verbs import VERBS
from maestoso.sites.contract import JournalEntry, Submission


class World:
    """One practice site."""

    def __init__(self, spec: SiteSpec, created_at: datetime) -> None:
        self.spec = spec
        self.created_at = created_at
        self.now = created_at.timestamp()
        self.ops: dict[str, Op] = {}
        self.due: list[tuple[float, int, str]] = []
        self.fences: dict[str, int] = {}
        self.faults: list[Fault] = []
        self.copies: dict[str, Copy] = {}
        self.sandboxes: dict[str, Sandbox] = {}
        self.synced: dict[str, list[RecoveryPoint]] = {}
        self.journal: list[JournalEntry] = []
        self.changed: list[str] = []  # the feed: keys in the order of their changes
        self.waiters: dict[str, set[str]] = {}
        self.replicas = {replica.group: replica for replica in spec.replicas}
        self.known: dict[str, Workload] = {w.name: w for w in spec.copied.workloads}

    # --- what the protocol asks ---

    def submit(self, key: str, submission: Submission, now: float) -> OperationState:
        """Take an operation in, or answer a key that is known. Raises SiteRefused."""
        self.advance(now)
        known = self.ops.get(key)
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
        op = Op(key=key, submission=submission, due_at=self.now)
        op.fault = self._fault_for(submission)
        seconds = operation_s(self.spec.seed, submission.verb, key)
        if op.fault and op.fault.effect == "slow":
            seconds *= op.fault.factor
        op.due_at = NEVER if op.fault and op.fault.effect == "hang" else self.now + seconds / submission.pace
        self.ops[key] = op
        VERBS[submission.verb].accepted(self, op)
        self._schedule(op)
        self._note(op)
        return op.state()

    def advance(self, now: float) -> None:
        """Let time pass until ``now``; everything that falls due happens in the order of its time."""
        while self.due and self.due[0][0] <= now:
            at, _, key = heapq.heappop(self.due)
            op = self.ops[key]
            if op.status == "running" and op.due_at == at:
                self.now = max(self.now, at)
                self._finish(op)
        self.now = max(self.now, now)

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
        replica = self.replicas.get(group)
        if replica is None:
            raise NotFound(f"Site {self.spec.code} holds no copies of a group {group!r}.")
        regular = points(group, replica.policy, replica.profile, datetime.fromtimestamp(self.now, UTC))
        extra = [p for p in self.synced.get(group, []) if p.at.timestamp() > self.now - 6 * 3600]
        return tuple(sorted((*regular, *extra), key=lambda point: point.at))

    def changes_of(self, group: str) -> tuple[ChangeRate, ...]:
        """Change rates of a group: hourly for two weeks, every ten minutes for the last two days."""
        profile = self.replicas[group].profile
        now = datetime.fromtimestamp(self.now, UTC)
        older = change_series(group, profile, now - timedelta(days=2), 12 * 86400, 3600)
        return (*older, *change_series(group, profile, now, 2 * 86400, 600))

    def inventory(self) -> Inventory:
        """What the site has now; test copies are not workloads of the site and are listed in ``remains``."""
        return self.spec.inventory

    def remains(self, mark: str) -> list[str]:
        """Everything that still carries the mark of a run, in words."""
        copies = [f"copy {copy.name}" for copy in self.copies.values() if copy.mark == mark]
        return copies + [f"sandbox {box.name}" for box in self.sandboxes.values() if box.mark == mark]

    def add_fault(self, fault: Fault, now: float) -> None:
        """Misbehave from now on as ``fault`` says."""
        self.advance(now)
        self.faults.append(fault)

    def clear_faults(self, now: float) -> None:
        """Put all right again; operations that hang end now."""
        self.advance(now)
        self.faults.clear()
        for op in self.ops.values():
            if op.status == "running" and op.due_at == NEVER and op.fault:
                op.fault = None
                self.reschedule(op, self.now)

    # --- for the verbs ---

    def point_exists(self, group: str, point: str) -> bool:
        """Whether the point is or was held within the daily retention: a run keeps what it began with."""
        replica = self.replicas.get(group)
        if replica is None:
            return False
        if any(p.id == point for p in self.synced.get(group, [])):
            return True
        at = point.removeprefix(f"{group}@")
        if not at.isdigit():
            return False
        moment = int(at)
        inside = self.now - replica.policy.keep_daily_s <= moment <= self.now
        return inside and moment % replica.policy.interval_s == 0

    def add_synced_point(self, group: str) -> RecoveryPoint:
        """The point that a sync on demand leaves behind."""
        replica = self.replicas[group]
        point = replace(
            point_at(group, replica.policy, replica.profile, int(self.now)), id=f"{group}@{self.now:.3f}"
        )
        self.synced.setdefault(group, []).append(point)
        return point

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
        try:
            if op.fault and op.fault.effect == "fail":
                raise Failure(op.fault.code, op.fault.reason)
            result, effect = verb.done(self, op)
        except Failure as failure:
            op.status, op.code, op.reason = "failed", failure.code, failure.reason
        else:
            op.status, op.result = "done", result
            if effect is not None:
                self.journal.append(
                    JournalEntry(
                        seq=len(self.journal) + 1, at=self.now, key=op.key, fence=op.submission.fence,
                        verb=op.submission.verb, subject=op.submission.subject, effect=dict(effect),
                    )
                )  # fmt: skip
        self._note(op)

    def _fault_for(self, submission: Submission) -> Fault | None:
        for index, fault in enumerate(self.faults):
            if fault.verb == submission.verb and fnmatchcase(submission.subject, fault.subject):
                if fault.times is not None:
                    left = replace(fault, times=fault.times - 1)
                    self.faults[index : index + 1] = [left] if left.times else []
                return fault
        return None
