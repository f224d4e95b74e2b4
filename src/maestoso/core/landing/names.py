"""What the name cues of a plan change, and what is in the way of that."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from maestoso.core.model.cue import NameRecord
from maestoso.core.model.landing import Landing
from maestoso.core.model.names import (
    LEADS_TO_ADDRESS,
    KnownName,
    NameChange,
    RecordType,
    canonical,
    value_in_form,
    zone_of,
)

Known = Mapping[tuple[str, RecordType], KnownName]


Doors = Mapping[str, tuple[str, ...]]
"""The addresses of front doors, by their names."""


def leads_to(record: NameRecord, site: str, landings: Mapping[str, Landing], doors: Doors) -> tuple[str, ...]:
    """The values of a record when a plan has come up at ``site``; none where that is not known."""
    if record.type in LEADS_TO_ADDRESS and record.door:
        found = (value_in_form(record.type, one) for one in doors.get(record.door, ()))
        return tuple(sorted(value for value in found if value is not None))
    if record.type in LEADS_TO_ADDRESS and record.workload:
        landing = landings.get(record.workload)
        return addresses(landing, record.type) if landing else ()
    values = (value_in_form(record.type, value) for value in record.at.get(site, ()))
    return tuple(sorted(value for value in values if value is not None))


def addresses(landing: Landing, kind: RecordType) -> tuple[str, ...]:
    """The addresses of the family on the first adapter that has one."""
    version = 4 if kind == "A" else 6
    for nic in landing.nics:
        found = [str(one.ip) for one in nic.addresses if one.version == version]
        if nic.connected and found:
            return tuple(sorted(found))
    return ()


def changes(
    records: Iterable[NameRecord],
    site: str,
    landings: Mapping[str, Landing],
    doors: Doors,
    zones: Iterable[str],
    known: Known,
) -> Iterator[NameChange]:
    """Each record, before and after; those without a zone or a value are left to the rules."""
    zones = tuple(zones)
    for record in records:
        name, after = canonical(record.name), leads_to(record, site, landings, doors)
        zone = zone_of(name, zones)
        if zone is None or not after:
            continue
        now = known.get((name, record.type))
        yield NameChange(
            zone=zone, name=name, type=record.type, ttl_s=record.ttl_s, after=after,
            before=now.values if now else None, before_ttl_s=now.ttl_s if now else 0,
        )  # fmt: skip
