"""Plans made of plans: the parts' waves, one part after the other, then the plan's own.

What is judged, forecast and run is the whole that comes out, so nothing behind this knows of parts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from maestoso.core.model.cue import Cue
from maestoso.core.model.plan import Plan, Wave

DEEPEST = 5


@dataclass(frozen=True, slots=True, kw_only=True)
class Twice:
    """A workload that arrives by two ways; it is kept where it arrives first."""

    workload: str
    kept: str
    dropped: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpandedPlan:
    """A plan as ``authored``, and with all its parts laid out.

    ``missing`` are parts that no plan has the code of, ``other_way`` those that go in another direction,
    ``circle`` a plan that contains itself, ``again`` parts that are met more than once and come once.
    """

    plan: Plan
    authored: Plan
    twice: tuple[Twice, ...] = ()
    missing: tuple[str, ...] = ()
    other_way: tuple[str, ...] = ()
    circle: tuple[str, ...] = ()
    again: tuple[str, ...] = ()


def expand_parts(plan: Plan, find: Callable[[str], Plan | None]) -> ExpandedPlan:
    """``plan`` with its parts' waves before its own. ``find`` gives the newest version of a part's plan."""
    if not plan.parts:
        return ExpandedPlan(plan=plan, authored=plan)
    laid = _Laying(plan, find)
    laid.lay(plan, (plan.code,))
    return ExpandedPlan(
        plan=replace(plan, parts=(), waves=tuple(laid.waves)),
        authored=plan,
        twice=tuple(laid.twice),
        missing=tuple(dict.fromkeys(laid.missing)),
        other_way=tuple(dict.fromkeys(laid.other_way)),
        circle=laid.circle,
        again=tuple(dict.fromkeys(laid.again)),
    )


class _Laying:
    def __init__(self, plan: Plan, find: Callable[[str], Plan | None]) -> None:
        self.root = plan
        self.find = find
        self.waves: list[Wave] = []
        self.place: dict[str, str] = {}
        self.twice: list[Twice] = []
        self.missing: list[str] = []
        self.other_way: list[str] = []
        self.circle: tuple[str, ...] = ()
        self.met: set[str] = set()
        self.again: list[str] = []

    def lay(self, plan: Plan, way: tuple[str, ...]) -> None:
        for part in plan.parts:
            if part.plan in way or len(way) > DEEPEST:
                self.circle = (*way, part.plan)
                continue
            if part.plan in self.met:
                self.again.append(part.plan)
                continue
            self.met.add(part.plan)
            found = self.find(part.plan)
            if found is None:
                self.missing.append(part.plan)
            elif (found.source, found.target) != (self.root.source, self.root.target):
                self.other_way.append(part.plan)
            else:
                first = len(self.waves)
                self.lay(found, (*way, part.plan))
                if first < len(self.waves):
                    self._frame(first, found.cues, f"{part.plan}-")
                    self.waves[first] = replace(self.waves[first], opens=part.opens)
        inner = f"{plan.code}-" if plan is not self.root else ""
        self.waves += [self._wave(wave, plan, inner) for wave in plan.waves]

    def _frame(self, first: int, cues: tuple[Cue, ...], mark: str) -> None:
        """A part's own cues stand before its first wave and after its last."""
        named = [replace(cue, id=mark + cue.id) for cue in cues]
        before = tuple(cue for cue in named if cue.at == "before")
        after = tuple(cue for cue in named if cue.at == "after")
        self.waves[first] = replace(self.waves[first], cues=(*before, *self.waves[first].cues))
        self.waves[-1] = replace(self.waves[-1], cues=(*self.waves[-1].cues, *after))

    def _wave(self, wave: Wave, plan: Plan, mark: str) -> Wave:
        kept = []
        for member in wave.members:
            if member.workload in self.place:
                self.twice.append(
                    Twice(workload=member.workload, kept=self.place[member.workload], dropped=plan.name)
                )
                continue
            self.place[member.workload] = plan.name
            kept.append(replace(member, cues=_marked(member.cues, mark)))
        name = f"{plan.name}: {wave.name}" if mark else wave.name
        return replace(wave, name=name, members=tuple(kept), cues=_marked(wave.cues, mark))


def _marked(cues: tuple[Cue, ...], mark: str) -> tuple[Cue, ...]:
    return tuple(replace(cue, id=mark + cue.id) for cue in cues)
