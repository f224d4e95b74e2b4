"""Three-way merge of a plan that two people changed.

Theirs is saved already, so it is the ground; what I changed against the version that we both began from is
put on top. Where both changed the same field of the same member, mine stays: I am the one who looks at it
before it is saved.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import fields, replace
from typing import Any

from maestoso.core.model.plan import Member, Plan, Wave

_PLAN_FIELDS = ("name", "rto_s", "rpo_s", "owner", "drill_every_days", "notes", "parts", "cues")


def merge(base: Plan, mine: Plan, theirs: Plan) -> Plan:
    """``theirs`` with my changes since ``base`` on top."""
    was = {member.workload: (wave, member) for wave, member in base.members()}
    my = {member.workload: (wave, member) for wave, member in mine.members()}
    their = {member.workload: (wave, member) for wave, member in theirs.members()}
    placed: dict[int, list[Member]] = {}
    for name, (wave, member) in their.items():
        if name in was and name not in my:
            continue  # I took it out
        place, value = wave, member
        if name in my and name in was:
            place = my[name][0] if my[name][0] != was[name][0] else wave
            value = _merged_member(was[name][1], my[name][1], member)
        elif name in my:
            place, value = my[name]  # both of us added it
        placed.setdefault(place, []).append(value)
    for name, (wave, member) in my.items():
        if name not in their and name not in was:
            placed.setdefault(wave, []).append(member)
    count = max(len(theirs.waves), len(mine.waves) if len(mine.waves) > len(base.waves) else 0)
    count = max(count, *(wave + 1 for wave in placed), 0) if placed else count
    waves = tuple(
        replace(_merged_wave(base, mine, theirs, index), members=tuple(placed.get(index, ())))
        for index in range(count)
    )
    return replace(theirs, waves=waves, **_changed(base, mine, _PLAN_FIELDS))


def _changed(base: Any, mine: Any, names: Iterable[str]) -> dict[str, Any]:
    """The named fields that I changed, with my values."""
    return {name: getattr(mine, name) for name in names if getattr(mine, name) != getattr(base, name)}


def _merged_member(base: Member, mine: Member, theirs: Member) -> Member:
    return replace(theirs, **_changed(base, mine, (field.name for field in fields(Member))))


def _merged_wave(base: Plan, mine: Plan, theirs: Plan, index: int) -> Wave:
    """Name, opening, rule and cues of a wave; waves are told apart by their place."""
    was, my, their = (plan.waves[index] if index < len(plan.waves) else None for plan in (base, mine, theirs))
    if their is None:
        return my or was or Wave(name="Wave")
    if my is None or was is None:
        return their
    return replace(their, **_changed(was, my, ("name", "opens", "tag_rule", "cues")))
