"""Waves and dependencies proposed from what uses what, and from tags; each with its reason.

Tiers (the tag ``tier``) are put in an order in which what is used comes before what uses it. Within that,
nobody comes up before the workload whose service it uses: in a later wave, or in the same one waiting for it.
Workloads that use each other in a circle stay side by side, since no order could satisfy them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from maestoso.core.model.estate import Workload
from maestoso.core.model.plan import MAX_WAVES, Plan
from maestoso.core.planning.diff import roman

TIER = "tier"


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """One thing to accept or leave: ``workload`` comes up in ``wave`` (from 0), or waits for ``on``."""

    kind: Literal["wave", "dependency"]
    workload: str
    wave: int = 0
    on: str = ""
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggestion:
    """Waves by name, in order, and the pieces that fill them."""

    waves: tuple[str, ...]
    pieces: tuple[Piece, ...]


def suggest(workloads: Sequence[Workload]) -> Suggestion:
    """An order for workloads that are in no plan yet."""
    known = {workload.name: workload for workload in workloads}
    needed = _needed(known)
    circles = _circles(known, needed)
    tiers = _tiers(known, needed)
    wave_of: dict[str, int] = {}
    reasons: dict[str, str] = {}
    dependencies: list[Piece] = []
    for name in _providers_first(known, needed, circles):
        tier = known[name].tags.get(TIER, "")
        wave = tiers.index(tier) if tier in tiers else 0
        reasons[name] = f"tagged {TIER}={tier}" if tier in tiers else "it uses nobody in this plan"
        for provider, service in needed[name]:
            if circles[provider] == circles[name]:
                continue
            least = wave_of[provider] + (0 if tier in tiers else 1)
            if least > wave or (least == wave and tier not in tiers):
                wave, reasons[name] = least, f"it uses {service} of {provider}"
        wave_of[name] = min(wave, MAX_WAVES - 1)
        dependencies += (
            Piece(kind="dependency", workload=name, on=provider, reason=f"it uses {service} of {provider}")
            for provider, service in needed[name]
            if wave_of.get(provider) == wave_of[name] and circles[provider] != circles[name]
        )
    used = sorted(set(wave_of.values()))
    names = tuple(
        _name(used.index(wave), [known[n] for n, w in wave_of.items() if w == wave]) for wave in used
    )
    waves = [
        Piece(kind="wave", workload=name, wave=used.index(wave_of[name]), reason=reasons[name])
        for name in known
    ]
    return Suggestion(waves=names, pieces=(*waves, *dependencies))


def suggest_changes(plan: Plan, estate: Mapping[str, Workload]) -> tuple[Piece, ...]:
    """What a plan lacks: who comes up before what it uses, and who should wait for it in the same wave."""
    wave_of = {member.workload: wave for wave, member in plan.members()}
    waits = {member.workload: set(member.depends_on) for _, member in plan.members()}
    known = {name: estate[name] for name in wave_of if name in estate}
    needed = _needed(known)
    circles = _circles(known, needed)
    found: list[Piece] = []
    for name in known:
        for provider, service in needed[name]:
            if circles[provider] == circles[name]:
                continue
            reason = f"it uses {service} of {provider}"
            if wave_of[provider] > wave_of[name]:
                reason += f", which comes up in wave {roman(wave_of[provider] + 1)}"
                found.append(Piece(kind="wave", workload=name, wave=wave_of[provider], reason=reason))
            if wave_of[provider] >= wave_of[name] and provider not in waits[name]:
                found.append(Piece(kind="dependency", workload=name, on=provider, reason=reason))
    return tuple(found)


def _needed(known: Mapping[str, Workload]) -> dict[str, list[tuple[str, str]]]:
    """By user: the providers among ``known`` and the service that each is used for, each provider once."""
    offered: dict[str, str] = {}
    for workload in known.values():
        for service in workload.offers:
            offered.setdefault(service.name, workload.name)
    found: dict[str, list[tuple[str, str]]] = {}
    for workload in known.values():
        mine: dict[str, str] = {}
        for name in workload.uses:
            provider = offered.get(name)
            if provider is not None and provider != workload.name:
                mine.setdefault(provider, name)
        found[workload.name] = list(mine.items())
    return found


def _circles(known: Mapping[str, Workload], needed: Mapping[str, list[tuple[str, str]]]) -> dict[str, int]:
    """A number for every workload, the same for those that use each other in a circle."""
    at = {name: index for index, name in enumerate(known)}
    edges = [(at[name], at[provider]) for name in known for provider, _ in needed[name]]
    if not edges:
        return at
    rows, columns = zip(*edges, strict=True)
    from scipy.sparse import csr_array  # loaded where it is used, as in arcs
    from scipy.sparse.csgraph import connected_components

    graph = csr_array(([1] * len(edges), (rows, columns)), shape=(len(at), len(at)))
    _, labels = connected_components(graph, connection="strong")
    return dict(zip(at, labels.tolist(), strict=True))


def _providers_first(
    known: Mapping[str, Workload], needed: Mapping[str, list[tuple[str, str]]], circles: Mapping[str, int]
) -> list[str]:
    """Everybody behind those whose services they use; circles in the order in which they came."""
    order: list[str] = []
    placed: set[str] = set()
    waiting = list(known)
    while waiting:
        ready = [
            name for name in waiting
            if all(p in placed or circles[p] == circles[name] for p, _ in needed[name])
        ]  # fmt: skip
        # A member of a circle may still wait for somebody outside, by way of another member of it.
        ready = ready or waiting[:1]
        order += ready
        placed.update(ready)
        waiting = [name for name in waiting if name not in placed]
    return order


def _tiers(known: Mapping[str, Workload], needed: Mapping[str, list[tuple[str, str]]]) -> list[str]:
    """Values of the tag ``tier``, so that what is mostly used comes first."""
    left = list(dict.fromkeys(w.tags[TIER] for w in known.values() if w.tags.get(TIER)))
    between: Counter[tuple[str, str]] = Counter()
    for name, providers in needed.items():
        for provider, _ in providers:
            pair = known[name].tags.get(TIER, ""), known[provider].tags.get(TIER, "")
            if all(pair) and pair[0] != pair[1]:
                between[pair] += 1
    order = []
    while left:
        # Who uses least of what is not placed yet, and is used most by it.
        def cost(tier: str, rest: Sequence[str] = tuple(left)) -> tuple[int, int]:
            return (
                sum(between[(tier, other)] for other in rest),
                -sum(between[(other, tier)] for other in rest),
            )

        first = min(left, key=cost)
        order.append(first)
        left.remove(first)
    return order


def _name(index: int, members: Sequence[Workload]) -> str:
    """The tier that most of its members have, else a number."""
    tiers = Counter(workload.tags[TIER] for workload in members if workload.tags.get(TIER))
    most = tiers.most_common(1)
    return most[0][0].capitalize()[:40] if most else f"Wave {index + 1}"
