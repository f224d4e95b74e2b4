"""Which networks packets can reach from others, and by which way a sandbox leaks.

A route counts both ways: an answer may not come back over it, but a packet can already do harm.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from maestoso.core.landing.ground import Ground, Place


@dataclass(frozen=True, slots=True, kw_only=True)
class Hop:
    """One network on a way, and how one comes to it from the one before (empty for the first)."""

    site: str
    network: str
    by: str = ""


Ways = Mapping[Place, list[tuple[Place, str]]]


def ways(ground: Ground, joined: Iterable[tuple[str, Iterable[Place]]] = ()) -> Ways:
    """The network graph: routes, stretched segments, and workloads with adapters on several networks.

    ``joined`` adds copies, as (name, networks).
    """
    found: dict[Place, dict[Place, str]] = {}

    def join(one: Place, other: Place, by: str) -> None:
        if one != other:
            found.setdefault(one, {}).setdefault(other, by)
            found.setdefault(other, {}).setdefault(one, by)

    for place, network in ground.networks.items():
        for name in network.routes_to:
            join(place, (place[0], name), "a route")
        for other in ground.stretch(place)[1:]:
            join(place, other, "the stretched segment")
    hosts = [
        (workload.name, [(code, nic.network) for nic in workload.nics])
        for code, workload in ground.workloads()
        if len(workload.nics) > 1
    ]
    for name, places in (*hosts, *joined):
        first, *rest = places
        for place in rest:
            join(first, place, f"{name}, which is on both")
    return {place: list(near.items()) for place, near in found.items()}


def leak(ground: Ground, graph: Ways, start: Place) -> tuple[Hop, ...]:
    """The shortest way from ``start`` to a production network; empty where there is none."""
    came: dict[Place, tuple[Place, str] | None] = {start: None}
    line = deque([start])
    while line:
        here = line.popleft()
        network = ground.networks.get(here)
        if network is not None and network.role == "production":
            return _back(came, here)
        for there, by in graph.get(here, ()):
            if there not in came:
                came[there] = here, by
                line.append(there)
    return ()


def reach(graph: Ways, start: Place) -> set[Place]:
    """Every network that packets can get to from ``start``, itself included."""
    seen, line = {start}, deque([start])
    while line:
        for there, _ in graph.get(line.popleft(), ()):
            if there not in seen:
                seen.add(there)
                line.append(there)
    return seen


def _back(came: Mapping[Place, tuple[Place, str] | None], here: Place) -> tuple[Hop, ...]:
    hops: list[Hop] = []
    at: Place | None = here
    while at is not None:
        before = came[at]
        hops.append(Hop(site=at[0], network=at[1], by=before[1] if before else ""))
        at = before[0] if before else None
    return tuple(reversed(hops))


def in_words(way: Iterable[Hop]) -> str:
    """A way as one phrase."""
    return ", ".join(f"by {hop.by} to {hop.network}" if hop.by else f"from {hop.network}" for hop in way)
