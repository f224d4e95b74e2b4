"""What must hold of a crosswalk before it is taken in: each complaint names a field.

What is merely wrong or missing is a finding, so that a half-done crosswalk can be kept; what could never be
is refused here.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from ipaddress import ip_address

from maestoso.core.estate.checks import LARGEST_TEXT, MAC, MOST_CORES, MOST_MEMORY_MIB, NAME
from maestoso.core.model.crosswalk import SIDES, Crosswalk, NicEntry, Readdress

MOST_ROWS = 10_000
MOST_ENTRIES = 100_000

Complaint = tuple[str, str, str]
"""Field, sentence, remedy."""


def complaints(crosswalk: Crosswalk) -> Iterator[Complaint]:
    """What could never be."""
    if crosswalk.source == crosswalk.target:
        yield "target", f"A crosswalk from {crosswalk.source} to itself goes nowhere.", "Choose another site."
    for field, most in (
        ("networks", MOST_ROWS), ("host_pools", MOST_ROWS), ("storage_pools", MOST_ROWS),
        ("folders", MOST_ROWS), ("address_rules", MOST_ROWS), ("table", MOST_ENTRIES),
        ("exceptions", MOST_ENTRIES), ("front_doors", MOST_ROWS),
    ):  # fmt: skip
        if len(getattr(crosswalk, field)) > most:
            yield field, f"There are {len(getattr(crosswalk, field))} of them.", f"Give at most {most}."
    for field in ("networks", "host_pools", "storage_pools", "folders"):
        for index, row in enumerate(getattr(crosswalk, field)):
            names = (getattr(row, name, "") for name in ("source", "target", "live", "sandbox"))
            if any(len(name or "") > LARGEST_TEXT for name in names):
                yield f"{field}[{index}]", "A name is very long.", f"Give at most {LARGEST_TEXT} characters."
    for index, door in enumerate(crosswalk.front_doors):
        at = f"front_doors[{index}]"
        if not 1 <= len(door.source) <= LARGEST_TEXT:
            yield f"{at}.source", "It is of no front door.", "Give the name of one at the source."
        for field, text in (("live", door.live), ("test", door.test)):
            if text and not _is_address(text):
                yield f"{at}.{field}", f"{text[:60]!r} is no address.", "Write it like 203.0.113.10."
    for index, rule in enumerate(crosswalk.address_rules):
        for side in SIDES:
            for part, sentence, remedy in _readdress(rule.live if side == "live" else rule.test):
                yield f"address_rules[{index}].{side}.{part}", sentence, remedy
    for index, entry in enumerate(crosswalk.table):
        for part, sentence, remedy in _entry(entry):
            yield f"table[{index}].{part}", sentence, remedy
    for index, exception in enumerate(crosswalk.exceptions):
        at = f"exceptions[{index}]"
        if exception.name is not None and not NAME.fullmatch(exception.name):
            remedy = "Use letters, digits, dots and dashes."
            yield f"{at}.name", f"{exception.name[:60]!r} is no name for a workload.", remedy
        for field, most in (("cores", MOST_CORES), ("memory_mib", MOST_MEMORY_MIB)):
            value = getattr(exception, field)
            if value is not None and not 1 <= value <= most:
                yield f"{at}.{field}", f"{field} is {value}.", f"Give 1 to {most}."
    for (workload, nic), times in Counter((e.workload, e.nic) for e in crosswalk.table).items():
        if times > 1:
            yield "table", f"{nic} of {workload} has {times} entries.", "Keep one; it has both sides."
    for workload, times in Counter(entry.workload for entry in crosswalk.exceptions).items():
        if times > 1:
            yield "exceptions", f"{workload} has {times} exceptions.", "Keep one."


def _readdress(says: Readdress) -> Iterator[Complaint]:
    if says.gateway is not None and not _is_address(says.gateway):
        yield "gateway", f"{says.gateway[:60]!r} is no address.", "Write it like 10.20.4.1, or leave it out."
    for text in says.dns:
        if not _is_address(text):
            yield "dns", f"{text[:60]!r} is no address.", "Give the addresses of name servers."
    if says.suffix and not _is_domain(says.suffix):
        yield "suffix", f"{says.suffix[:60]!r} is no domain name.", "Write it like harbour.example."


def _entry(entry: NicEntry) -> Iterator[Complaint]:
    if entry.mac is not None and not MAC.fullmatch(entry.mac):
        yield "mac", f"{entry.mac[:60]!r} is no MAC.", "Write it like 02:00:5e:10:00:01."
    for side in SIDES:
        says = entry.live if side == "live" else entry.test
        for field in ("gateways", "dns") if says else ():
            for text in getattr(says, field) or ():
                if not _is_address(text):
                    yield f"{side}.{field}", f"{text[:60]!r} is no address.", "Write it like 10.20.4.1."


def _is_address(text: str) -> bool:
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


def _is_domain(text: str) -> bool:
    labels = text.split(".")
    return len(text) <= 253 and all(NAME.fullmatch(label) for label in labels)
