"""What would come back if a site were lost this minute, or can be brought up now that it is.

Counted is what plans that could start now would bring up, from points that exist, and nothing else. What
cannot come back is said with the reason.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field
from datetime import datetime

from maestoso.core.readiness.context import Context
from maestoso.core.replication.lifecycle import is_copied
from maestoso.core.wording import counted, lasting

NAMED = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Way:
    """A plan as a way out of its source. ``blocked_because`` is empty where a disaster run could start now.

    ``brings`` are the workloads that it would bring up, ``leaves_off`` those that it keeps off by intent;
    ``about_s`` is how long that takes, ``loses_s`` how old the oldest of the points is. ``first`` is what has
    to happen before ("run 3, a test, is aborted"), empty where nothing has.
    """

    plan: str
    name: str
    source: str
    target: str
    blocked_because: str
    first: str = ""
    brings: frozenset[str]
    leaves_off: frozenset[str]
    about_s: float | None
    loses_s: float | None


@dataclass(frozen=True, slots=True, kw_only=True)
class IfLost:
    """One site: how many workloads run there (or ran, where it is ``down``), and how many would be back.

    ``plans`` are those that would bring them back, most workloads first; ``why_not`` says what of the rest.
    ``silent_since`` is when the site was heard last.
    """

    site: str
    down: bool
    silent_since: datetime | None
    running: int
    back: int
    plans: tuple[str, ...]
    about_s: float | None
    at_most_s: float | None
    sentence: str
    why_not: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A site as the board sees it. ``running`` are the workloads that run there, or ran when it fell silent.

    ``recovering`` names the live runs that move workloads away from it, in words; ``moving`` are workloads
    that such a run moves now, with the run. ``uncopied`` are those that no group copies now, with the reason.
    """

    code: str
    name: str
    running: frozenset[str]
    down: bool = False
    silent_since: datetime | None = None
    recovering: tuple[str, ...] = ()
    moving: Mapping[str, str] = field(default_factory=dict)
    uncopied: Mapping[str, str] = field(default_factory=dict)


def way_of(ctx: Context, blocked_because: str, about_s: float | None, first: str = "") -> Way:
    """A plan in its world as a way out of its source."""
    brings, off, ages = set(), set(), []
    for _, member in ctx.plan.members():
        group = ctx.group_of(member.workload)
        if group is None or member.workload not in ctx.workloads:
            continue
        point = ctx.newest.get(group.code)
        if not member.power_on:
            off.add(member.workload)
        elif point is not None and is_copied(ctx.stages.get(group.code, "protected")):
            brings.add(member.workload)
            ages.append((ctx.now - point.at).total_seconds())
    return Way(
        plan=ctx.authored.code, name=ctx.authored.name, source=ctx.plan.source, target=ctx.plan.target,
        blocked_because=blocked_because, first=first, brings=frozenset(brings), leaves_off=frozenset(off),
        about_s=about_s, loses_s=max(ages, default=None),
    )  # fmt: skip


def if_lost(
    place: Place, ways: Sequence[Way], groups: Mapping[str, str], names: Mapping[str, str], now: datetime
) -> IfLost:
    """What of ``place`` would be back.

    ``groups`` gives the group of every workload that is in one, ``names`` the names of sites.
    """
    out = [way for way in ways if way.source == place.code]
    chosen = _chosen([way for way in out if not way.blocked_because and way.brings & place.running])
    back: frozenset[str] = frozenset().union(*(way.brings for way in chosen)) & place.running
    abouts = [way.about_s for way in chosen]
    about_s = None if None in abouts or not abouts else sum(a for a in abouts if a is not None)
    at_most_s = max((way.loses_s for way in chosen if way.loses_s is not None), default=None)
    targets = dict.fromkeys(names.get(way.target, way.target) for way in chosen)
    firsts = tuple(dict.fromkeys(way.first for way in chosen if way.first))
    said = _back(place, len(back), list(targets), len(chosen), about_s, at_most_s, firsts, now)
    return IfLost(
        site=place.code, down=place.down, silent_since=place.silent_since, running=len(place.running),
        back=len(back), plans=tuple(way.plan for way in chosen), about_s=about_s, at_most_s=at_most_s,
        sentence=said, why_not=_why_not(place, back, out, groups),
    )  # fmt: skip


def _chosen(ways: Sequence[Way]) -> list[Way]:
    """Plans that can run one after the other: most workloads first, none that another has already."""
    taken: set[str] = set()
    chosen = []
    for way in sorted(ways, key=lambda one: (-len(one.brings), one.plan)):
        if not taken & (way.brings | way.leaves_off):
            chosen.append(way)
            taken |= way.brings | way.leaves_off
    return chosen


def _back(
    place: Place, back: int, targets: Sequence[str], plans: int, about_s: float | None,
    at_most_s: float | None, firsts: Sequence[str], now: datetime,
) -> str:  # fmt: skip
    running = len(place.running)
    there = f" at {_listed(targets)}" if targets else ""
    after = f" in about {lasting(about_s)}" if about_s is not None else ""
    after += ", one plan after the other" if after and plans > 1 else ""
    after += f", once {_listed(firsts)}" if firsts else ""
    gone = f", with at most {lasting(at_most_s)} of work gone" if at_most_s is not None else ""
    if place.down:
        since = ""
        if place.silent_since is not None:
            for_s = max((now - place.silent_since).total_seconds(), 0.0)
            since = f" since {place.silent_since:%H:%M} UTC, for {lasting(for_s)}"
        said = f"{place.name} does not answer{since}."
        if place.recovering:
            return f"{said} {_listed(place.recovering)}."
        if not running:
            return f"{said} No workload ran there."
        ran = f"{counted(running, 'workload')} ran there"
        if not back:
            return f"{said} {ran}; none can be brought up elsewhere now."
        which = "it" if running == 1 else "all" if back == running else str(back)
        return f"{said} {ran}; {which} can be brought up{there}{after}{gone}."
    if not running:
        return f"No workload runs at {place.name}."
    if not back:
        none = "its only workload would not" if running == 1 else f"none of its {running} workloads would"
        return f"If {place.name} were lost this minute, {none} come back."
    which = f"{back} of {counted(running, 'workload')}"
    return f"If {place.name} were lost this minute, {which} would be back{there}{after}{gone}."


def _why_not(place: Place, back: Set[str], ways: Sequence[Way], groups: Mapping[str, str]) -> str:
    """What becomes of the rest, the largest part first."""
    reasons: dict[str, list[str]] = {}
    for name in sorted(place.running - back):
        reasons.setdefault(_reason(name, place, ways, groups), []).append(name)
    parts = [
        f"{_these(names)}: {reason}"
        for reason, names in sorted(reasons.items(), key=lambda item: -len(item[1]))
    ]
    return "; ".join(parts) + "." if parts else ""


def _these(names: Sequence[str]) -> str:
    return _listed(names) if len(names) <= NAMED else f"{len(names)} workloads"


def _reason(name: str, place: Place, ways: Sequence[Way], groups: Mapping[str, str]) -> str:
    if name in place.moving:
        return f"on the way with {place.moving[name]}"
    if name in place.uncopied:
        return f"not copied now ({place.uncopied[name]})"
    if name not in groups:
        return "in no group, so nothing is copied"
    of_it = [way for way in ways if name in way.brings]
    blocked = next((way for way in of_it if way.blocked_because), None)
    if blocked is not None:
        return f"not while {blocked.name} cannot start ({blocked.blocked_because.rstrip('.')})"
    if of_it:
        return "in a plan that cannot run beside another that comes first"
    if any(name in way.leaves_off for way in ways):
        return "left off by intent"
    stuck = next((way for way in ways if way.blocked_because), None)
    if stuck is not None:
        return f"not to be had ({stuck.blocked_because.rstrip('.')})"
    return "protected, and in no plan that brings it up"


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}" if names else ""
