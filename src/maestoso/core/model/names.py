"""Records of zones: what may stand in them, which zone a name belongs to, and what a change is.

Texts are in the form of RFC 1035's zone files. Names are lower case and without the full stop at their end.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from ipaddress import AddressValueError, IPv4Address, IPv6Address
from typing import Literal

RecordType = Literal["A", "AAAA", "CNAME", "PTR", "SRV"]
RECORD_TYPES: tuple[RecordType, ...] = ("A", "AAAA", "CNAME", "PTR", "SRV")
LEADS_TO_ADDRESS: frozenset[RecordType] = frozenset({"A", "AAAA"})
NAME_SERVERS = "Name servers"
"""Whom a step asks that changes names, in the place of a site; it stands in sentences as it is."""
MOST_RECORDS = 50
MOST_VALUES = 20
MOST_TTL_S = 86400
_LABEL = re.compile(r"(?!-)[a-z0-9_-]{1,63}(?<!-)")


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownName:
    """What the primary server of a zone says of one name and type; no ``values``: it has none."""

    name: str
    type: RecordType
    values: tuple[str, ...] = ()
    ttl_s: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class NameChange:
    """One set of records, before and after. ``before`` is None where it could not be read; ``before_ttl_s``
    is for how long clients may hold what it said."""

    zone: str
    name: str
    type: RecordType
    ttl_s: int
    after: tuple[str, ...]
    before: tuple[str, ...] | None = None
    before_ttl_s: int = 0


def canonical(name: str) -> str:
    """A name as it is compared: lower case, without the full stop at its end."""
    return name.strip().lower().removesuffix(".")


def is_name(name: str) -> bool:
    """Whether it can be the name of a record (RFC 1035, 2.3.1; with underscores for services, RFC 2782)."""
    labels = canonical(name).split(".")
    return len(name) <= 253 and len(labels) > 1 and all(_LABEL.fullmatch(label) for label in labels)


def zone_of(name: str, zones: Iterable[str]) -> str | None:
    """The zone that a name belongs to: the longest that it ends with."""
    inside = [zone for zone in zones if canonical(name) == zone or canonical(name).endswith(f".{zone}")]
    return max(inside, key=len, default=None)


def value_in_form(kind: RecordType, value: str) -> str | None:
    """A value in the one form that it is compared in; None where it cannot be one of its type."""
    try:
        if kind == "A":
            return str(IPv4Address(value.strip()))
        if kind == "AAAA":
            return str(IPv6Address(value.strip()))
    except AddressValueError:
        return None
    if kind == "SRV":
        words = value.split()
        fits = len(words) == 4 and all(word.isdecimal() and int(word) < 2**16 for word in words[:3])
        return (
            " ".join([*map(str, map(int, words[:3])), canonical(words[3])])
            if fits and is_name(words[3])
            else None
        )
    return canonical(value) if is_name(value) else None


WANTED = {
    "A": "an IPv4 address", "AAAA": "an IPv6 address", "CNAME": "a name", "PTR": "a name",
    "SRV": "priority, weight, port and a name, such as 10 5 443 booking.tidewell.example",
}  # fmt: skip
"""What a value of each type is, in words."""
