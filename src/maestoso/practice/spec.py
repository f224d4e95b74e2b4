"""What a practice site is made of, and how it may misbehave."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from maestoso.core.model.estate import Inventory
from maestoso.core.model.protection import Policy
from maestoso.core.replication.points import ChangeProfile


@dataclass(frozen=True, slots=True, kw_only=True)
class Replica:
    """A group whose copies this site holds."""

    group: str
    members: tuple[str, ...]
    policy: Policy
    profile: ChangeProfile


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteSpec:
    """``copied`` describes the workloads of other sites whose replicas are here, so that copies can boot."""

    code: str
    seed: int
    inventory: Inventory
    replicas: tuple[Replica, ...] = ()
    copied: Inventory = field(default_factory=Inventory)


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """Misbehaviour of the next operations whose verb and subject match (``*`` stands for any text).

    ``fail`` answers with ``code`` and ``reason``; ``hang`` never ends by itself; ``slow`` takes ``factor``
    times as long; ``leak`` makes a sandbox with a route to production; ``boot-hangs`` gives power but never
    a heartbeat. ``times`` None means until it is cleared.
    """

    verb: str
    effect: Literal["fail", "hang", "slow", "leak", "boot-hangs"]
    subject: str = "*"
    times: int | None = 1
    factor: float = 4.0
    code: str = "practice-fault"
    reason: str = "The practice lab made this fail."
