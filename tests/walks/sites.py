"""Practice sites without sockets: the records of the application speak to worlds in this process."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any, Self

from maestoso.core.codec import to_data
from maestoso.core.model.estate import Inventory, OddMachine
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import ChangeRate, RecoveryPoint
from maestoso.core.ports import SiteUnreachable
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.practice.replication import LAG_EVERY_S
from maestoso.practice.verbs import VERBS
from maestoso.practice.world import World
from maestoso.sites.contract import PROTOCOL, Lags, SitePulse, Submission, WorkloadChange

LOOK_S = 1.0
"""Virtual seconds that pass while somebody waits for an operation."""


class Clock:
    """The time of a walk; it goes on only when told."""

    def __init__(self, start: datetime) -> None:
        self.moment = start

    def now(self) -> datetime:
        """Aware UTC time."""
        return self.moment

    def go_on(self, seconds: float) -> None:
        """Let time pass."""
        self.moment += timedelta(seconds=seconds)


class NearSite:
    """The site protocol as the client speaks it, on a world. ``agent_dead``: it runs, but nobody answers."""

    def __init__(self, world: World, clock: Clock) -> None:
        self.world = world
        self.clock = clock
        self.agent_dead = False
        self.known_inventory: list[Inventory] = []

    @property
    def answers(self) -> bool:
        """Whether its agent can be reached."""
        return not self.agent_dead and not self.world.dark

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *_: object) -> None:
        pass

    def _come_up(self) -> World:
        if self.agent_dead:
            raise SiteUnreachable("No connection to the site agent.")
        if self.world.dark:
            raise SiteUnreachable("The site agent answered with status 503.")
        self.world.advance(self.clock.now().timestamp())
        self.world.care()
        return self.world

    async def capabilities(self) -> dict[str, Any]:
        """As a practice site says it."""
        return {"protocol": PROTOCOL, "practice": True, "verbs": sorted(VERBS), "site": self.world.spec.code}

    async def inventory(self) -> Inventory:
        """What the site has."""
        return self._come_up().inventory

    async def inventory_and_odd(self) -> tuple[Inventory, tuple[OddMachine, ...]]:
        """The same; none of its machines is odd."""
        return await self.inventory(), ()

    async def pulse(self) -> SitePulse:
        """How it and the copying to it stand."""
        world = self._come_up()
        if not any(world.inventory is one for one in self.known_inventory):
            self.known_inventory.append(world.inventory)
        mark = next(i for i, one in enumerate(self.known_inventory) if one is world.inventory)
        running, copies = world.running()
        return SitePulse(
            now=self.clock.now(), inventory=str(mark), groups=world.replication.states(),
            links=world.replication.link_states(), landings=str(world.held_changes), protocol=PROTOCOL,
            running=running, copies=copies, off=world.off(), epoch=world.epoch,
        )  # fmt: skip

    async def points(self, group: str) -> tuple[tuple[RecoveryPoint, ...], tuple[ChangeRate, ...]]:
        """Points of a group; how fast it changes is nothing that a walk looks at."""
        return self._come_up().points(group), ()

    async def landings(self) -> tuple[Landing, ...]:
        """What it holds for those who may arrive."""
        return tuple(self._come_up().held.values())

    async def lags(self) -> Lags:
        """How far behind its groups were."""
        return Lags(every_s=LAG_EVERY_S, groups=self._come_up().replication.lags())

    async def change_rates(self) -> tuple[WorkloadChange, ...]:
        """What its workloads change."""
        return self._come_up().change_rates()

    async def answering(self, workloads: Sequence[str], mark: str = "") -> frozenset[tuple[str, str]]:
        """Workload and service of all that answer there now."""
        found = self._come_up().answering(workloads, mark)
        return frozenset((name, service) for name, services in found.items() for service in services)

    async def put_operation(self, operation: Operation, fence: int, answer_s: float = 5.0) -> OperationState:
        """Ask for an operation."""
        self._come_up()
        return self.submit(operation, fence)

    def submit(self, operation: Operation, fence: int) -> OperationState:
        """Take an operation in. Raises SiteRefused."""
        submission = Submission(
            verb=operation.verb, subject=operation.subject, run=operation.run, fence=fence,
            args=to_data(operation.args), pace=operation.pace,
        )  # fmt: skip
        return self.world.submit(operation.key, submission, self.clock.now().timestamp())

    async def operation(self, key: str) -> OperationState | None:
        """What became of a key. Who asks waits for it, so time passes."""
        self.clock.go_on(LOOK_S)
        return self._come_up().operation(key)


def utc(seconds: float) -> datetime:
    """Seconds since 1970 as a moment."""
    return datetime.fromtimestamp(seconds, UTC)
