"""The things a practice site keeps: copies, sandboxes, operations."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from maestoso.agent_kit.platform import Failure as Failure
from maestoso.core.model.estate import Prefix
from maestoso.core.runs.operations import OperationState, OperationStatus
from maestoso.practice.spec import Fault
from maestoso.sites.contract import Submission

NEVER = float("inf")


class NotYet(Exception):
    """An operation is not over at the moment it was expected to be; look again at ``at``."""

    def __init__(self, at: float) -> None:
        super().__init__(at)
        self.at = at


@dataclass(slots=True, kw_only=True)
class Copy:
    """A machine of the site: a test copy, a copy that a failover brought up, or one of the site's own.

    Own machines have no ``mark``. A ``fenced`` one gets no power. ``contents`` says what its disks hold: the
    moment of the last write, in seconds since 1970, as of when it last had no power.
    """

    name: str
    workload: str
    mark: str
    point: str
    registered: bool = False
    host_pool: str = ""
    folder: str = ""
    cores: int = 0
    memory_mib: int = 0
    nics: dict[str, dict[str, Any]] = field(default_factory=dict)
    powered: bool = False
    powered_at: float = 0.0
    heartbeat_at: float = NEVER
    fenced: bool = False
    group: str = ""
    contents: float = 0.0


@dataclass(slots=True, kw_only=True)
class Sandbox:
    """An isolated network made for a run, in the likeness of another. A leaky one has routes.

    ``names`` are what its resolver answers, by type and name.
    """

    name: str
    mark: str
    like: str = ""
    routes_to: tuple[str, ...] = ()
    names: dict[tuple[str, str], tuple[str, ...]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenDoor:
    """A front door that leads to a machine; opened by the run ``mark``, or the site's own without one."""

    name: str
    mark: str
    address: str
    ports: tuple[str, ...]
    machine: str
    sources: tuple[Prefix, ...] = ()


@dataclass(slots=True, kw_only=True)
class Op:
    """An operation that the site knows; kept for ever, so that its key can be answered again.

    What it waits for, as a boot, is under way from ``waits_since`` until ``waits_until``.
    """

    key: str
    submission: Submission
    due_at: float
    status: OperationStatus = "running"
    result: Mapping[str, Any] = field(default_factory=dict)
    code: str = ""
    reason: str = ""
    fault: Fault | None = None
    accepted_at: float = 0.0
    waits_since: float | None = None
    waits_until: float = NEVER
    settled_at: float = 0.0

    def state(self) -> OperationState:
        """As the protocol says it."""
        took = (self.settled_at - self.accepted_at) * self.submission.pace
        before = 0.0
        if self.waits_since is not None:
            # What it waits for was under way before it was asked for, or even over by then.
            over_by = min(self.accepted_at, self.waits_until)
            before = max(over_by - self.waits_since, 0.0) * self.submission.pace
        return OperationState(
            key=self.key, status=self.status, result=self.result, code=self.code, reason=self.reason,
            took_s=round(took, 6) if self.status in ("done", "failed") else None, before_s=round(before, 6),
        )  # fmt: skip
