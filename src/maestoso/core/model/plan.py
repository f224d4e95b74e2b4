"""A recovery plan: what comes up where, in which order, with which checks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

RunKind = Literal["test", "planned", "disaster"]
OnFailure = Literal["ask", "go-on", "stop"]

MAX_DELAY_S = 24 * 3600
MAX_OBJECTIVE_S = 30 * 86400
MAX_WAVES = 20
MAX_NAME = 80
MAX_TEXT = 4000


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One workload in a wave.

    ``delay_s`` (boot delay) counts from 'everything I wait for is ready'. ``ready`` says what counts as
    ready: the guest's heartbeat, all its services answering, the power being on, or nothing at all.
    """

    workload: str
    delay_s: int = 0
    depends_on: tuple[str, ...] = ()
    ready: Literal["heartbeat", "checks", "powered-on", "at-once"] = "checks"
    ready_timeout_s: int = 600
    on_failure: OnFailure = "ask"
    power_on: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class HoldCue:
    """A question that a person must answer before what is behind it may go on."""

    id: str
    title: str
    instruction: str
    kinds: tuple[RunKind, ...] = ("test", "planned", "disaster")


@dataclass(frozen=True, slots=True, kw_only=True)
class Wave:
    """One boot-priority level. ``holds`` stand before its members."""

    name: str
    opens: Literal["ready", "powered-on", "at-once"] = "ready"
    members: tuple[Member, ...] = ()
    holds: tuple[HoldCue, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """One version of a plan, as people edit and runs execute it. Objectives are in seconds."""

    code: str
    name: str
    source: str
    target: str
    rto_s: int
    rpo_s: int
    owner: str = ""
    drill_every_days: int = 90
    notes: str = ""
    waves: tuple[Wave, ...] = ()

    def members(self) -> Iterator[tuple[int, Member]]:
        """Every member with the index of its wave, in order."""
        for index, wave in enumerate(self.waves):
            for member in wave.members:
                yield index, member

    def workloads(self) -> tuple[str, ...]:
        """Names of all members, in order, those that stay off included."""
        return tuple(member.workload for _, member in self.members())
