"""Rules about names: the zone they are in, what they lead to, and how long clients hold the old answer."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.landing.names import changes, leads_to
from maestoso.core.model.crosswalk import Side
from maestoso.core.model.cue import Cue, NameRecord
from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.model.landing import Landing
from maestoso.core.model.names import (
    LEADS_TO_ADDRESS,
    MOST_RECORDS,
    MOST_TTL_S,
    MOST_VALUES,
    RECORD_TYPES,
    WANTED,
    NameChange,
    canonical,
    is_name,
    value_in_form,
    zone_of,
)
from maestoso.core.planning.inputs import LIVE, Kind
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.door_rules import door_addresses
from maestoso.core.wording import lasting

MOST_TOLD = 5
LONG_TTL_S = 300
"""From here on a finding asks to lower it before a planned move."""


def name_changes(ctx: Context, side: Side) -> dict[str, tuple[NameChange, ...]]:
    """What each name cue of the plan changes, by its id."""
    landings, doors = _landings(ctx, side), door_addresses(ctx, side)
    return {
        cue.id: tuple(
            changes(cue.names.records, ctx.plan.target, landings, doors, ctx.zones, ctx.known_names)
        )
        for cue in ctx.cues_of("names")
        if cue.names is not None
    }


def _landings(ctx: Context, side: Side) -> dict[str, Landing]:
    judged = ctx.landed.get(side)
    return {one.workload: one for one in judged.landings} if judged else {}


def _records(ctx: Context) -> Iterator[tuple[Cue, NameRecord]]:
    for cue in ctx.cues_of("names"):
        for record in cue.names.records if cue.names else ():
            yield cue, record


def told_before(ctx: Context, kind: Kind) -> tuple[str, ...]:
    """What a run changes of names, a sentence each; in a test that nothing outside changes."""
    cues = {cue.id for cue in ctx.cues_of("names") if kind in cue.kinds}
    side: Side = "live" if kind in LIVE else "test"
    found = [one for cue, listed in name_changes(ctx, side).items() if cue in cues for one in listed]
    if not found:
        return ()
    if kind == "test":
        names = ", ".join(dict.fromkeys(one.name for one in found[:MOST_TOLD]))
        more = f" and {len(found) - MOST_TOLD} more" if len(found) > MOST_TOLD else ""
        return (f"Its copies find each other as {names}{more}; outside of the sandbox no name changes.",)
    said = [_told(one) for one in found[:MOST_TOLD]]
    rest = len(found) - MOST_TOLD
    return (*said, *([f"{rest} more names change; they stand in the plan's cues."] if rest > 0 else []))


def _told(one: NameChange) -> str:
    after = f"{one.name} ({one.type}) will lead to {', '.join(one.after)}"
    if one.before is None:
        return f"{after}; what it leads to now is not known."
    if one.before == one.after:
        return f"{one.name} ({one.type}) leads to {', '.join(one.after)} already."
    if not one.before:
        return f"{after}; it leads nowhere now."
    held = f" Clients may hold the old answer for {lasting(one.before_ttl_s)}." if one.before_ttl_s else ""
    return f"{after}, and leads to {', '.join(one.before)} now.{held}"


def name_malformed(ctx: Context) -> Iterator[Finding]:
    """A record is such that a zone could hold it."""
    for cue in ctx.cues_of("names"):
        records = cue.names.records if cue.names else ()
        if not 1 <= len(records) <= MOST_RECORDS:
            yield blocks("cue-malformed", cue.title, f"The cue {cue.title} has {len(records)} names.",
                         f"Give 1 to {MOST_RECORDS}.")  # fmt: skip
        for record in records:
            said = _wrong(record, set(ctx.ground.sites))
            if said is not None:
                yield blocks("cue-malformed", cue.title, f"In the cue {cue.title}, {said[0]}", said[1])
        kinds = [(canonical(record.name), record.type) for record in records]
        for name, kind in sorted({one for one in kinds if kinds.count(one) > 1}):
            yield blocks("cue-malformed", cue.title, f"The cue {cue.title} says {kind} of {name} twice.",
                         "Say it once, with all its values.")  # fmt: skip
        alone = {name for name, kind in kinds if kind == "CNAME"}
        for name in sorted(name for name in alone if len({kind for one, kind in kinds if one == name}) > 1):
            yield blocks("cue-malformed", cue.title, f"{name} is a CNAME and something else as well.",
                         "A CNAME stands alone; say one or the other.")  # fmt: skip


def _wrong(record: NameRecord, sites: set[str]) -> tuple[str, str] | None:
    """What is wrong with a record, and what would be right; None where nothing is."""
    name = record.name[:80]
    if not is_name(record.name):
        return f"{name!r} is no name.", "Write it whole, such as booking.tidewell.example."
    if record.type not in RECORD_TYPES:
        return f"{name} is of the type {record.type[:20]!r}.", f"Use one of: {', '.join(RECORD_TYPES)}."
    if not 0 <= record.ttl_s <= MOST_TTL_S:
        return f"{name} may be held for {record.ttl_s} s.", f"Give 0 to {MOST_TTL_S}."
    aims = [
        word for word, aim in (("a workload", record.workload), ("a front door", record.door),
                               ("values of its own", record.at)) if aim
    ]  # fmt: skip
    if aims != ["values of its own"] and record.type not in LEADS_TO_ADDRESS:
        return f"{name} is a {record.type} and leads to {_and(aims)}.", "Say its value for each site."
    if len(aims) != 1:
        return (
            f"{name} leads to {_and(aims)}.",
            "Name a workload or a front door, or say the values for each site.",
        )
    for site, values in record.at.items():
        if site not in sites:
            return (
                f"{name} has values for {site[:20]!r}, which is no site.",
                f"Use one of: {', '.join(sorted(sites))}.",
            )
        if not 1 <= len(values) <= (1 if record.type == "CNAME" else MOST_VALUES):
            most = "1" if record.type == "CNAME" else f"1 to {MOST_VALUES}"
            return f"{name} has {len(values)} values at {site}.", f"Give {most}."
        for value in values:
            if value_in_form(record.type, value) is None:
                return (
                    f"{name} leads to {value[:60]!r} at {site}.",
                    f"{record.type} wants {WANTED[record.type]}.",
                )
    return None


def _and(words: list[str]) -> str:
    return " and ".join(words) or "nothing"


def name_without_zone(ctx: Context) -> Iterator[Finding]:
    """A name can be changed only at a server of its zone that is known here."""
    for cue, record in _records(ctx):
        if is_name(record.name) and zone_of(record.name, ctx.zones) is None:
            said = f"changes {canonical(record.name)}, which is in no zone that is known here"
            yield blocks("name-without-zone", cue.id, f"The cue {cue.title} {said}.",
                         "Add its zone and the server of it under Settings, Names.")  # fmt: skip


def name_leads_nowhere(ctx: Context) -> Iterator[Finding]:
    """Where it will lead must be known before the run."""
    landings, doors = _landings(ctx, "live"), door_addresses(ctx, "live")
    for cue, record in _records(ctx):
        site = ctx.plan.target
        if _wrong(record, set(ctx.ground.sites)) is not None or leads_to(record, site, landings, doors):
            continue
        name = canonical(record.name)
        if record.door:
            family = "IPv4" if record.type == "A" else "IPv6"
            said = f"leads {name} to {record.door[:80]}, of which no {family} address at {site} is known"
            mend = f"Choose a front door of {ctx.plan.source} that the crosswalk has a row for."
        elif not record.workload:
            said, mend = f"does not say what {name} leads to at {site}", f"Say its value at {site}."
        elif record.workload not in landings:
            said, mend = (
                f"leads {name} to {record.workload}, which this plan does not bring up",
                f"Bring {record.workload} up in this plan, or lead the name elsewhere.",
            )
        else:
            family = "IPv4" if record.type == "A" else "IPv6"
            said = f"leads {name} to {record.workload}, of which no {family} address at {site} is known"
            mend = "Give it an address by a rule or a table entry of the crosswalk, or say the address here."
        yield blocks("name-leads-nowhere", cue.id, f"The cue {cue.title} {said}.", mend)


def zone_not_read(ctx: Context) -> Iterator[Finding]:
    """Without what a zone says now it is not known what is put back."""
    asked = {zone_of(record.name, ctx.zones) for _, record in _records(ctx)}
    for zone in sorted(zone for zone in asked if zone is not None and ctx.zones[zone]):
        yield warns("zone-not-read", zone, f"What {zone} says could not be read: {ctx.zones[zone]}",
                    "See to its server under Settings, Names. Its names may fail to change.")  # fmt: skip


def name_leads_elsewhere(ctx: Context) -> Iterator[Finding]:
    """A name that leads to another place than the plan thinks may be another's."""
    source = {
        record.name: {str(held.ip) for nic in ctx.workloads[record.workload].nics for held in nic.addresses}
        for _, record in _records(ctx)
        if record.workload in ctx.workloads
    }
    home = ctx.ground.sites.get(ctx.plan.source)
    doors = {door.name: door.address for door in home.front_doors} if home else {}
    source |= {record.name: {doors[record.door]} for _, record in _records(ctx) if record.door in doors}
    for cue, record in _records(ctx):
        known = ctx.known_names.get((canonical(record.name), record.type))
        if known is None or not known.values:
            continue
        here = record.at.get(ctx.plan.source, ())
        expected = {value_in_form(record.type, one) for one in here} or source.get(record.name, set())
        if expected and not expected & set(known.values):
            should = ", ".join(sorted(filter(None, expected)))
            said = f"{known.name} leads to {', '.join(known.values)} now. At {ctx.plan.source} it should be "
            mend = "Correct the record or the cue, before a run takes the name from somebody else."
            yield warns("name-leads-elsewhere", cue.id, f"{said}{should}.", mend)


def ttl_long(ctx: Context) -> Iterator[Finding]:
    """What clients hold for long is outage; before a planned move it can be lowered."""
    for cue, record in _records(ctx):
        known = ctx.known_names.get((canonical(record.name), record.type))
        if known is not None and known.values and known.ttl_s > LONG_TTL_S:
            held = lasting(known.ttl_s)
            said = f"Clients may hold what {known.name} says now for {held} after it has changed."
            mend = f"Lower its TTL to {record.ttl_s} s at least {held} before a planned move."
            yield warns("ttl-long", cue.id, said, mend)
