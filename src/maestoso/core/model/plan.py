"""A recovery plan: what comes up where, in which order, with which checks."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from maestoso.core.model.cue import Cue, OnFailure, RunKind

__all__ = ["Cue", "Member", "OnFailure", "Opens", "Part", "Plan", "RunKind", "Wave"]

Opens = Literal["ready", "powered-on", "at-once"]

MAX_DELAY_S = 24 * 3600
MAX_OBJECTIVE_S = 30 * 86400
MAX_WAVES = 20
MAX_PARTS = 20
MAX_TAGS = 20
MAX_NAME = 80
MAX_TEXT = 4000


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One workload in a wave.

    ``delay_s`` (boot delay) counts from 'everything I wait for is ready'. ``ready`` says what counts as
    ready: the guest's heartbeat, all its services answering, the power being on, or nothing at all.
    ``shutdown_limit_s`` is how long its guest may take to shut down when the source is closed down, and
    ``force_off`` whether its power is then cut. ``cores`` and ``memory_mib`` are its size at the target, as
    at the source where they are None.
    """

    workload: str
    delay_s: int = 0
    depends_on: tuple[str, ...] = ()
    ready: Literal["heartbeat", "checks", "powered-on", "at-once"] = "checks"
    ready_timeout_s: int = 600
    on_failure: OnFailure = "ask"
    power_on: bool = True
    shutdown_limit_s: int = 300
    force_off: bool = True
    cores: int | None = None
    memory_mib: int | None = None
    cues: tuple[Cue, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Wave:
    """One boot-priority level. ``tag_rule`` names, as a filter, the workloads that belong in it."""

    name: str
    opens: Opens = "ready"
    tag_rule: str = ""
    members: tuple[Member, ...] = ()
    cues: tuple[Cue, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """Another plan whose waves come before this plan's own; ``opens`` is when its first wave does."""

    plan: str
    opens: Opens = "ready"


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """One version of a plan, as people edit and runs execute it. Objectives are in seconds.

    ``needs_standby``: it counts on a second Maestoso that would go on with its runs.
    """

    code: str
    name: str
    source: str
    target: str
    rto_s: int
    rpo_s: int
    owner: str = ""
    drill_every_days: int = 90
    needs_standby: bool = False
    tags: tuple[str, ...] = ()
    notes: str = ""
    parts: tuple[Part, ...] = ()
    waves: tuple[Wave, ...] = ()
    cues: tuple[Cue, ...] = ()

    def members(self) -> Iterator[tuple[int, Member]]:
        """Every member with the index of its wave, in order."""
        for index, wave in enumerate(self.waves):
            for member in wave.members:
                yield index, member

    def workloads(self) -> tuple[str, ...]:
        """Names of all members, in order, those that stay off included."""
        return tuple(member.workload for _, member in self.members())

    def placed_cues(self) -> Iterator[tuple[int | None, Member | None, Cue]]:
        """Every cue with the wave and the member it belongs to, None where it is the whole's."""
        for cue in self.cues:
            yield None, None, cue
        for index, wave in enumerate(self.waves):
            for cue in wave.cues:
                yield index, None, cue
            for member in wave.members:
                for cue in member.cues:
                    yield index, member, cue
