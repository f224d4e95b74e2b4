"""Everything a run is compiled from. It is kept whole in the run's first event."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from maestoso.core.model.door import DoorMove
from maestoso.core.model.estate import Link, SiteLimits, Workload
from maestoso.core.model.landing import Landing
from maestoso.core.model.names import NameChange
from maestoso.core.model.plan import Plan
from maestoso.core.model.protection import Group, RecoveryPoint

COMPILER = 5
"""Number of the rules that turn inputs into steps; a log says which one it was written under.

1: as first released. 2: before the verdict, the site is asked what every adapter really has. 3: cues at one
place come one after the other. 4: a roll back is through when services answer at the source again;
guests whose settings stay are not told them. 5: an isolated network is told which routers its copies look
for.
"""

Kind = Literal["test", "planned", "disaster", "re-protect"]
"""What a run can be. A failback is a planned run of a plan that was turned round."""
KINDS: tuple[Kind, ...] = ("test", "planned", "disaster", "re-protect")
LIVE: tuple[Kind, ...] = ("planned", "disaster")
"""Kinds that move production."""
CommitOrRollBack = Literal["commit", "roll-back"]
AtCommit = Literal["nothing", "re-protect", "end-protection"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ScriptText:
    """A script as it was when the run started; ``sha256`` is that of its text in UTF-8, in hexadecimal."""

    name: str
    interpreter: str
    text: str
    sha256: str


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupCopy:
    """One group in a run: its members in the plan, and the point their copies are made from.

    ``apart`` are members that come from another point than the rest, at the price of write order.
    ``definition`` is the group as it is to be copied from now on; only a re-protect has it.
    """

    code: str
    members: tuple[str, ...]
    point: RecoveryPoint | None
    definition: Group | None = None
    apart: dict[str, RecoveryPoint] = field(default_factory=dict)

    def point_of(self, workload: str) -> RecoveryPoint | None:
        """Where the copy of a member is made from."""
        return self.apart.get(workload, self.point)


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveChoices:
    """What a person chose for a planned failover or a disaster.

    ``close_down``: a disaster tries to shut the source down where it answers. ``go_on``: steps that fail are
    recorded and skipped. The decision window is ``decide_within_s`` seconds by the clock on the wall
    (0: it has no end); then ``then`` happens by itself. ``declared_at``: the moment from which RTO and RPO
    count, the start where it is None. ``acknowledged``: source copies that cannot be confirmed off were
    acknowledged at the start. ``wake`` are host pools at the target whose standby hosts are woken first;
    ``source_silent``: when it was started, nothing had been heard of the source for as long as a disaster
    waits for it. Both are what was known then, and no choices.
    A guest that is not down ``force_after_s`` machine seconds after it was asked loses its power; None: the
    plan says of each member whether and when.
    """

    close_down: bool = True
    go_on: bool = False
    decide_within_s: int = 0
    then: CommitOrRollBack = "roll-back"
    at_commit: AtCommit = "nothing"
    declared_at: datetime | None = None
    acknowledged: bool = False
    wake: tuple[str, ...] = ()
    source_silent: bool = False
    force_after_s: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Probed:
    """A service of a workload that a test probes all the time, from its start to its verdict."""

    workload: str
    service: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimate:
    """A lognormal duration in machine seconds: ``median_s`` and the ``sigma`` of its logarithm."""

    median_s: float
    sigma: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class RunInputs:
    """``mark`` names this run at the sites: the suffix of a test's copies, and whose the live ones are.

    Nobody is asked anything in an ``unattended`` test: what fails is passed over, it judges itself, and at
    ``cleanup_at`` it is taken away wherever it is.

    ``live`` is there in a planned or disaster run; ``link`` in a re-protect, the one its data goes over;
    ``probed`` only in a test: of a run that moves production every service is. ``names`` are the records of
    each name cue, by its id, as they were when the run started and as they shall be; ``doors`` the front
    doors of each door cue.
    """

    kind: Kind
    plan: Plan
    plan_version: int
    mark: str
    workloads: tuple[Workload, ...]
    landings: tuple[Landing, ...]
    groups: tuple[GroupCopy, ...]
    limits: SiteLimits
    sync_first: bool = False
    pace: float = 1.0
    cleanup_at: datetime | None = None
    unattended: bool = False
    scripts: tuple[ScriptText, ...] = ()
    estimates: dict[str, Estimate] = field(default_factory=dict)
    compiler: int = COMPILER
    live: LiveChoices | None = None
    link: Link | None = None
    probed: tuple[Probed, ...] = ()
    names: dict[str, tuple[NameChange, ...]] = field(default_factory=dict)
    doors: dict[str, tuple[DoorMove, ...]] = field(default_factory=dict)

    def opened(self, cue: str) -> tuple[DoorMove, ...]:
        """The doors of a cue that this run opens."""
        return tuple(one for one in self.doors.get(cue, ()) if one.after)

    def all_opened(self) -> tuple[DoorMove, ...]:
        """All doors that this run opens."""
        cues = (cue for _, _, cue in self.plan.placed_cues() if self.kind in cue.kinds)
        return tuple(one for cue in cues for one in self.opened(cue.id))

    def door(self, name: str) -> tuple[str, DoorMove] | None:
        """A door with the id of the cue that moves it; None where none does."""
        return next(
            ((cue, one) for cue, found in self.doors.items() for one in found if one.name == name), None
        )
