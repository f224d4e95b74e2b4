"""Three-way merge of a plan that two people changed.

Theirs is saved already, so it is the ground; what I changed against the version that we both began from is
put on top. Where both changed the same field of the same member, mine stays: I am the one who looks at it
before it is saved. Waves are told by their names and members, not by their places: one that somebody puts
between two others makes no other wave of those behind it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import fields, replace
from typing import Any

from maestoso.core.model.plan import Member, Plan, Wave

_PLAN_FIELDS = (
    "name", "rto_s", "rpo_s", "owner", "drill_every_days", "needs_standby", "tags", "notes", "parts", "cues",
)  # fmt: skip
_WAVE_FIELDS = ("name", "opens", "tag_rule", "cues")
Key = tuple[str, int]
"""A wave of the merge: its place in theirs; in the base, if they took it out; in mine, if it is new."""


def merge(base: Plan, mine: Plan, theirs: Plan) -> Plan:
    """``theirs`` with my changes since ``base`` on top."""
    waves = _Waves(base, mine, theirs)
    was = {member.workload: (wave, member) for wave, member in base.members()}
    my = {member.workload: (wave, member) for wave, member in mine.members()}
    their = {member.workload: (wave, member) for wave, member in theirs.members()}
    placed: dict[Key, list[Member]] = {}
    for name, (wave, member) in their.items():
        if name in was and name not in my:
            continue  # I took it out
        place, value = ("theirs", wave), member
        if name in my and name in was:
            if waves.of_mine(my[name][0]) != waves.of_base(was[name][0]):
                place = waves.of_mine(my[name][0])
            value = _merged_member(was[name][1], my[name][1], member)
        elif name in my:
            place, value = waves.of_mine(my[name][0]), my[name][1]  # both of us added it
        placed.setdefault(place, []).append(value)
    for name, (wave, member) in my.items():
        if name not in their and name not in was:
            placed.setdefault(waves.of_mine(wave), []).append(member)
    merged = tuple(
        replace(waves.merged(key), members=tuple(placed.get(key, ())))
        for key in waves.order()
        if placed.get(key) or waves.stays_empty(key)
    )
    return replace(theirs, waves=merged, **_changed(base, mine, _PLAN_FIELDS))


class _Waves:
    """Which waves of the three versions are the same."""

    def __init__(self, base: Plan, mine: Plan, theirs: Plan) -> None:
        self.base, self.mine, self.theirs = base.waves, mine.waves, theirs.waves
        self.my_of, self.their_of = _twins(base.waves, mine.waves), _twins(base.waves, theirs.waves)
        self.was_mine = {mine: base for base, mine in self.my_of.items()}
        self.was_theirs = {theirs: base for base, theirs in self.their_of.items()}
        # A wave of one name that both of us added is one.
        fresh = {wave.name: i for i, wave in enumerate(theirs.waves) if i not in self.was_theirs}
        self.both_added = {
            i: fresh[wave.name] for i, wave in enumerate(mine.waves)
            if i not in self.was_mine and wave.name in fresh
        }  # fmt: skip

    def of_base(self, index: int) -> Key:
        """The wave of the merge that a wave of the base is."""
        return ("theirs", self.their_of[index]) if index in self.their_of else ("base", index)

    def of_mine(self, index: int) -> Key:
        """The wave of the merge that one of mine is."""
        if index in self.was_mine:
            return self.of_base(self.was_mine[index])
        return ("theirs", self.both_added[index]) if index in self.both_added else ("mine", index)

    def order(self) -> list[Key]:
        """All of them: in my order if only I changed it, else in theirs."""
        my: list[Key] = [self.of_mine(index) for index in range(len(self.mine))]
        their: list[Key] = [("theirs", index) for index in range(len(self.theirs))]
        kept = [self.their_of[index] for index in sorted(self.their_of)]
        return _interleaved(my, their) if kept == sorted(kept) else _interleaved(their, my)

    def stays_empty(self, key: Key) -> bool:
        """Whether a wave is one without members too: neither of us took it out."""
        kind, index = key
        if kind == "theirs":
            return index not in self.was_theirs or self.was_theirs[index] in self.my_of
        return kind == "mine"

    def merged(self, key: Key) -> Wave:
        """Name, opening, rule and cues of a wave."""
        kind, index = key
        if kind == "mine":
            return self.mine[index]
        before = self.was_theirs.get(index) if kind == "theirs" else index
        their = self.theirs[index] if kind == "theirs" else self.base[index]
        if before is None or before not in self.my_of:
            return their
        return replace(their, **_changed(self.base[before], self.mine[self.my_of[before]], _WAVE_FIELDS))


def _twins(before: Sequence[Wave], after: Sequence[Wave]) -> dict[int, int]:
    """Which wave of ``before`` is which of ``after``: by name, then by members, then by place."""
    found: dict[int, int] = {}
    names = [wave.name for wave in after]
    for index, wave in enumerate(before):
        if [other.name for other in before].count(wave.name) == names.count(wave.name) == 1:
            found[index] = names.index(wave.name)
    shared = [
        (-len(_names(one) & _names(other)), index, place)
        for index, one in enumerate(before)
        for place, other in enumerate(after)
        if _names(one) & _names(other)
    ]
    places = [(0, index, index) for index in range(min(len(before), len(after)))]
    for _, index, place in [*sorted(shared), *places]:
        if index not in found and place not in found.values():
            found[index] = place
    return found


def _names(wave: Wave) -> set[str]:
    return {member.workload for member in wave.members}


def _interleaved(first: Sequence[Key], second: Sequence[Key]) -> list[Key]:
    """``first`` in its order, and what only ``second`` has behind what it follows there."""
    found = list(first)
    for index, key in enumerate(second):
        if key not in found:
            found.insert(found.index(second[index - 1]) + 1 if index else 0, key)
    return found


def _changed(base: Any, mine: Any, names: Iterable[str]) -> dict[str, Any]:
    """The named fields that I changed, with my values."""
    return {name: getattr(mine, name) for name in names if getattr(mine, name) != getattr(base, name)}


def _merged_member(base: Member, mine: Member, theirs: Member) -> Member:
    return replace(theirs, **_changed(base, mine, (field.name for field in fields(Member))))
