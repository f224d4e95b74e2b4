"""The things a practice site keeps: copies, sandboxes, operations."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from maestoso.core.runs.operations import OperationState, OperationStatus
from maestoso.practice.spec import Fault
from maestoso.sites.contract import Submission

NEVER = float("inf")


class Failure(Exception):
    """An operation ends without its effect."""

    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code
        self.reason = reason


@dataclass(slots=True, kw_only=True)
class Copy:
    """A test copy, from its first clone to its last trace."""

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
    heartbeat_at: float = NEVER


@dataclass(slots=True, kw_only=True)
class Sandbox:
    """An isolated network made for a run, in the likeness of another. A leaky one has routes."""

    name: str
    mark: str
    like: str = ""
    routes_to: tuple[str, ...] = ()


@dataclass(slots=True, kw_only=True)
class Op:
    """An operation that the site knows; kept for ever, so that its key can be answered again."""

    key: str
    submission: Submission
    due_at: float
    status: OperationStatus = "running"
    result: Mapping[str, Any] = field(default_factory=dict)
    code: str = ""
    reason: str = ""
    fault: Fault | None = None
    changed: int = 0

    def state(self) -> OperationState:
        """As the protocol says it."""
        return OperationState(
            key=self.key, status=self.status, result=self.result, code=self.code, reason=self.reason
        )
