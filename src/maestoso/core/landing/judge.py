"""One side of a crosswalk judged as a whole: landings, findings, room."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from maestoso.core.answer_cache import AnswerCache
from maestoso.core.landing.checks import Landings, check
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.resolve import resolve
from maestoso.core.landing.room import Room, room, room_findings
from maestoso.core.model.crosswalk import Crosswalk, Side
from maestoso.core.model.estate import Workload
from maestoso.core.model.finding import Finding
from maestoso.core.model.landing import Landing


@dataclass(frozen=True, slots=True, kw_only=True)
class Judged:
    """``landings`` in the order of the workloads."""

    side: Side
    landings: tuple[Landing, ...]
    findings: tuple[Finding, ...]
    rooms: tuple[Room, ...]


Asked = tuple[Crosswalk, tuple[Workload, ...], Side, frozenset[str]]
_judged: AnswerCache[Ground, Asked, Judged] = AnswerCache(8)


def judge_landings(
    crosswalk: Crosswalk, ground: Ground, workloads: Sequence[Workload], side: Side, copied: Collection[str]
) -> Judged:
    """Land ``workloads`` together; the space of those that are ``copied`` is taken at the target already."""
    asked = (crosswalk, tuple(workloads), side, frozenset(copied))
    return _judged.answer(ground, asked, lambda: _judge(crosswalk, ground, workloads, side, copied))


def _judge(
    crosswalk: Crosswalk, ground: Ground, workloads: Sequence[Workload], side: Side, copied: Collection[str]
) -> Judged:
    resolved = resolve(workloads, crosswalk, ground, side)
    landings = tuple(one.landing for one in resolved)
    rooms = room(landings, ground, crosswalk.target, side, copied)
    found = check(
        Landings(crosswalk=crosswalk, ground=ground, side=side, workloads=workloads, resolved=resolved)
    )
    return Judged(side=side, landings=landings, findings=(*found, *room_findings(rooms, side)), rooms=rooms)
