"""What every platform does alike with front doors: refuse those that cannot be, before any of them opens."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from ipaddress import ip_address, ip_network
from typing import Any

from .platform import Failure

_PORT = re.compile(r"(?:tcp|udp)/([1-9][0-9]{0,4})")
Doors = Mapping[tuple[str, str], Mapping[str, Any]]
"""By the mark of the run that opened it (empty: the site's own), and its name."""


def checked(mark: str, doors: Iterable[Mapping[str, Any]], opened: Doors) -> None:
    """Raises Failure for a door that cannot be read, or whose address leads to another one: of those that are
    ``opened``, or of these."""
    known = dict(opened)
    for door in doors:
        _refuse_unreadable(door)
        for key, other in known.items():
            shares = other["address"] == door["address"] and set(other["ports"]) & set(door["ports"])
            if shares and key != (mark, door["name"]):
                raise Failure("address-taken", f"{door['address']} is that of {other['name']} already.")
        known[mark, door["name"]] = door


def proved_apart(addresses: Iterable[str], own: Iterable[Mapping[str, Any]]) -> None:
    """Raises Failure where a front door of a test would open at an address of the site's own, open or not."""
    held = {door["address"]: door["name"] for door in own}
    for address in addresses:
        if address in held:
            said = (
                f"A front door of the test would open at {address}, which is {held[address]} of production."
            )
            raise Failure("not-isolated", said)


def is_port(text: str) -> bool:
    """Whether it is a port of a front door, such as ``tcp/443``."""
    found = _PORT.fullmatch(text)
    return found is not None and int(found[1]) < 1 << 16


def lets_in(sources: Iterable[object], who: str) -> bool:
    """Whether somebody at an address may come in; where no sources (prefixes) are said, everybody may."""
    known = [ip_network(str(one)) for one in sources]
    at = ip_address(who)
    return not known or any(at in prefix for prefix in known if prefix.version == at.version)


def _refuse_unreadable(door: Mapping[str, Any]) -> None:
    try:
        ip_address(door["address"])
        for source in door["sources"]:
            ip_network(source)
    except ValueError as error:
        raise Failure("bad-value", f"{door['name']}: {error}.") from error
    odd = next((port for port in door["ports"] if not is_port(port)), None)
    if odd is not None or not door["ports"]:
        raise Failure("bad-value", f"{door['name']}: {odd or 'nothing'!r} is no port; write it as tcp/443.")
