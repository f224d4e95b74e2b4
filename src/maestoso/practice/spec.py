"""What a practice site is made of, and how it may misbehave."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from maestoso.core.model.estate import Inventory, Link
from maestoso.core.model.protection import Group
from maestoso.core.replication.change import ChangeProfile


@dataclass(frozen=True, slots=True, kw_only=True)
class Replica:
    """A group whose copies this site holds, and how its workloads change."""

    group: Group
    profile: ChangeProfile


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteSpec:
    """``copied`` describes the workloads of other sites whose replicas are here, so that copies can boot.

    ``usual_bps`` says how fast workloads change, where that does not follow from their size.
    """

    code: str
    seed: int
    inventory: Inventory = field(default_factory=Inventory)
    replicas: tuple[Replica, ...] = ()
    copied: Inventory = field(default_factory=Inventory)
    links: tuple[Link, ...] = ()
    usual_bps: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """Misbehaviour of the next operations whose verb and subject match (``*`` stands for any text).

    ``fail`` answers with ``code`` and ``reason``; ``hang`` never ends by itself; ``slow`` takes ``factor``
    times as long; ``leak`` makes a sandbox with a route to production; ``boot-hangs`` gives power but never
    a heartbeat; ``exits`` ends a script with ``exit_code``; a guest whose shutdown is ``ignored`` keeps its
    power; ``site-down`` takes the operation in, and then the whole site goes dark. ``times`` None means until
    it is cleared.
    """

    verb: str
    effect: Literal["fail", "hang", "slow", "leak", "boot-hangs", "exits", "ignored", "site-down"]
    subject: str = "*"
    times: int | None = 1
    factor: float = 4.0
    exit_code: int = 1
    code: str = "practice-fault"
    reason: str = "The practice lab made this fail."


@dataclass(frozen=True, slots=True, kw_only=True)
class Trouble:
    """Misbehaviour of the copying, until it is cleared.

    ``cut`` and ``slow`` (by ``factor``) are about the link from the site ``subject``; ``burst`` makes the
    group ``subject`` change ``factor`` times as fast for ``length_s``; ``failing`` lets its cycles fail for
    ``reason``.
    """

    effect: Literal["cut", "slow", "burst", "failing"]
    subject: str
    factor: float = 8.0
    length_s: int = 900
    reason: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Switch:
    """Misbehaviour of the site as a whole, until it is put right.

    ``dark``: no power and no answer. ``skew``: its clock is ``amount`` seconds ahead. ``old-agent``: its
    agent speaks protocol 1.0. ``forgets``: its agent loses its memory of operations. ``host-lost``: a part of
    the machines of the host pool ``subject`` lose power, and have it again elsewhere when ``amount`` is 1.
    """

    effect: Literal["dark", "skew", "old-agent", "forgets", "host-lost"]
    subject: str = ""
    amount: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Broken:
    """What is made to misbehave at a practice site now."""

    dark: bool = False
    skew_s: float = 0.0
    old_agent: bool = False
    faults: tuple[Fault, ...] = ()
    troubles: tuple[Trouble, ...] = ()
