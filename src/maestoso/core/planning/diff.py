"""What changed between two versions of a plan, in sentences."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.model.cue import Cue
from maestoso.core.model.plan import Member, Plan

ROMAN = ((10, "X"), (9, "IX"), (5, "V"), (4, "IV"), (1, "I"))


def roman(number: int) -> str:
    """Wave numerals as the pages show them."""
    text = ""
    for value, letters in ROMAN:
        while number >= value:
            text += letters
            number -= value
    return text


def changes(before: Plan, after: Plan) -> tuple[str, ...]:
    """Sentences without full stop, in the order of the plan; empty where nothing changed."""
    return tuple(_changes(before, after))


def _changes(before: Plan, after: Plan) -> Iterator[str]:
    was = {member.workload: (wave, member) for wave, member in before.members()}
    now = {member.workload: (wave, member) for wave, member in after.members()}
    for name, (wave, member) in now.items():
        if name not in was:
            yield f"{name} added to wave {roman(wave + 1)}"
            continue
        old_wave, old = was[name]
        if old_wave != wave:
            yield f"{name} moved from wave {roman(old_wave + 1)} to {roman(wave + 1)}"
        yield from _member_changes(old, member)
    yield from (f"{name} taken out" for name in was if name not in now)
    yield from _part_changes(before, after)
    yield from _wave_changes(before, after)
    yield from _cue_changes(before.cues, after.cues, "at the plan")
    for label, old_value, value in (
        ("name", before.name, after.name),
        ("RTO objective", before.rto_s, after.rto_s),
        ("RPO objective", before.rpo_s, after.rpo_s),
        ("owner", before.owner, after.owner),
        ("drill interval", before.drill_every_days, after.drill_every_days),
        ("standby", _wanted(before.needs_standby), _wanted(after.needs_standby)),
        ("tags", ", ".join(before.tags), ", ".join(after.tags)),
        ("notes", before.notes, after.notes),
    ):
        if old_value != value:
            yield f"{label} changed from {old_value or 'nothing'} to {value or 'nothing'}"


def _wanted(yes: bool) -> str:
    return "wanted" if yes else "not wanted"


def _member_changes(old: Member, new: Member) -> Iterator[str]:
    name = new.workload
    if old.delay_s != new.delay_s:
        more = new.delay_s - old.delay_s
        yield f"{name} waits {abs(more)} s {'longer' if more > 0 else 'less'}"
    for other in new.depends_on:
        if other not in old.depends_on:
            yield f"{name} now waits for {other}"
    for other in old.depends_on:
        if other not in new.depends_on:
            yield f"{name} no longer waits for {other}"
    if old.ready != new.ready:
        yield f"{name} is ready by {new.ready} instead of {old.ready}"
    if old.ready_timeout_s != new.ready_timeout_s:
        yield f"{name} is given {new.ready_timeout_s} s instead of {old.ready_timeout_s} s"
    if old.on_failure != new.on_failure:
        yield f"when {name} fails: {new.on_failure} instead of {old.on_failure}"
    if old.power_on != new.power_on:
        yield f"{name} is {'powered on' if new.power_on else 'left off'}"
    if (old.cores, old.memory_mib) != (new.cores, new.memory_mib):
        yield f"{name} gets {_size(new)} at the target instead of {_size(old)}"
    if (old.shutdown_limit_s, old.force_off) != (new.shutdown_limit_s, new.force_off):
        after = "is then forced off" if new.force_off else "is never forced off"
        yield f"{name} may take {new.shutdown_limit_s} s to shut down and {after}"
    yield from _cue_changes(old.cues, new.cues, f"at {name}")


def _size(member: Member) -> str:
    cores = f"{member.cores} cores" if member.cores else ""
    memory = f"{member.memory_mib} MiB" if member.memory_mib else ""
    return " and ".join(part for part in (cores, memory) if part) or "its own size"


def _cue_changes(before: tuple[Cue, ...], after: tuple[Cue, ...], place: str) -> Iterator[str]:
    was, now = ({cue.id: cue for cue in cues} for cues in (before, after))
    for name, cue in now.items():
        if name not in was:
            yield f"the cue {cue.title} added {place}"
        elif was[name] != cue:
            yield f"the cue {cue.title} {place} changed"
    yield from (f"the cue {cue.title} {place} taken out" for name, cue in was.items() if name not in now)
    if list(was) != list(now) and set(was) == set(now):
        yield f"the cues {place} are in another order"


def _part_changes(before: Plan, after: Plan) -> Iterator[str]:
    was, now = ([part.plan for part in plan.parts] for plan in (before, after))
    yield from (f"{code} is now a part" for code in now if code not in was)
    yield from (f"{code} is no longer a part" for code in was if code not in now)
    if was != now and set(was) == set(now):
        yield f"the parts come in the order {', '.join(now)}"
    opens = {part.plan: part.opens for part in before.parts}
    for part in after.parts:
        if opens.get(part.plan, part.opens) != part.opens:
            yield f"the part {part.plan} opens {part.opens} instead of {opens[part.plan]}"


def _wave_changes(before: Plan, after: Plan) -> Iterator[str]:
    for index, (old, new) in enumerate(zip(before.waves, after.waves, strict=False)):
        numeral = roman(index + 1)
        if old.name != new.name:
            yield f"wave {numeral} is called {new.name} instead of {old.name}"
        if old.opens != new.opens:
            yield f"wave {numeral} opens {new.opens} instead of {old.opens}"
        if old.tag_rule != new.tag_rule:
            rules = new.tag_rule or "none", old.tag_rule or "none"
            yield f"the tag rule of wave {numeral} is {rules[0]} instead of {rules[1]}"
        yield from _cue_changes(old.cues, new.cues, f"at wave {numeral}")
    more = len(after.waves) - len(before.waves)
    if more:
        waves = "wave" if abs(more) == 1 else "waves"
        yield f"{abs(more)} {waves} {'added' if more > 0 else 'taken out'}"
