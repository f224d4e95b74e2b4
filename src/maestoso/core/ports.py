"""What the engine needs from outside, as Protocols. Each has a real adapter and an in-memory twin."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal, Protocol

from maestoso.core.runs.events import Event
from maestoso.core.runs.operations import Operation, OperationState


class Clock(Protocol):
    """The time, as an aware UTC datetime."""

    def now(self) -> datetime: ...


class LogUnavailable(Exception):
    """The run log cannot be reached now. Nothing is lost: wait and try again."""


class SiteUnreachable(Exception):
    """The site gave no answer. Nothing is known of what it did: ask again with the same key."""


class SiteUnintelligible(SiteUnreachable):
    """Something answers, but not as an agent: nothing is known of what the site did, as with no answer."""


class SiteUntrusted(SiteUnintelligible):
    """A certificate or a token is not the right one: who answers is not believed, or does not believe us."""


class SiteBusy(SiteUnreachable):
    """The site took nothing in and wants to be asked again after ``wait_s``: it is neither lost, nor is that
    a failure. ``why``: where it is we who do not ask."""

    def __init__(self, wait_s: float, why: str = "") -> None:
        super().__init__(why or f"It is busy and wants to be asked again in {max(round(wait_s), 1)} s.")
        self.wait_s = wait_s


REIGN_PAST, FENCE_TOO_LOW = "reign-past", "fence-too-low"
"""Codes of refusals that say: somebody else conducts it now. Of them there is nothing to record."""


class SiteRefused(Exception):
    """The site answered that it will not: a bad request, an unknown verb, a fence that is too low."""

    def __init__(self, code: str, reason: str) -> None:
        super().__init__(reason)
        self.code = code
        self.reason = reason


@dataclass(frozen=True, slots=True, kw_only=True)
class Feed:
    """What changed at a site behind a cursor, and the cursor that follows.

    ``epoch`` is another text once the agent has lost its memory; empty where it does not say.
    """

    states: Sequence[OperationState]
    cursor: int
    epoch: str = ""


class SiteClient(Protocol):
    """One site agent. Every call may raise SiteUnreachable or SiteRefused."""

    async def put_operation(self, operation: Operation, fence: int) -> OperationState: ...

    async def operation(self, key: str) -> OperationState | None: ...

    async def changes(self, after: int, wait_s: float) -> Feed: ...

    async def answering(self, workloads: Sequence[str], mark: str = "") -> frozenset[tuple[str, str]]: ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Lease:
    """The right to write one run's log: only with the highest ``fence`` ever given out."""

    run: str
    fence: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Append:
    """Events to add to one run, in order, under a lease."""

    lease: Lease
    events: Sequence[Event]


AppendResult = Literal["written", "behind", "lost"]
"""``behind``: somebody else's events came first, read them. ``lost``: the lease went to another engine."""


class RunLog(Protocol):
    """The append-only log of all runs, and who may write to which."""

    def unfinished(self) -> Mapping[str, int]:
        """Runs that have no outcome yet and are not put aside, with the number of their last event."""

    def put_aside(self, run: str, why: str) -> None:
        """Nobody conducts this run until a person has it tried again; ``why`` is shown to them."""

    def read(self, run: str, after: int = 0) -> list[Event]:
        """Events of a run behind number ``after``, in order."""

    def append(self, batch: Sequence[Append]) -> list[AppendResult]:
        """Add all events of the batch in one transaction; each run's result on its own."""

    def claim(self, run: str, owner: str, lease_s: float) -> Lease | None:
        """Take the lease when it is free or has run out, is the owner's own, or of an earlier process
        of the same engine that is known to have ended."""

    def renew(self, leases: Sequence[Lease], owner: str, lease_s: float) -> set[str]:
        """Keep leases; returns the runs that are still the owner's."""

    def release(self, leases: Sequence[Lease], owner: str) -> None:
        """Give leases back, so that another engine need not wait."""
