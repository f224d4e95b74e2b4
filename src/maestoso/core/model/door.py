"""Front doors of a run: what each was, and where it opens."""

from __future__ import annotations

import re
from dataclasses import dataclass

from maestoso.core.model.estate import Prefix

_PORT = re.compile(r"(tcp|udp)/([1-9][0-9]{0,4})")
MOST_DOORS = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class DoorMove:
    """A front door that leads to ``workload``: its address at the source, and where this run opens it.

    ``after`` is empty where this run does not open it.
    """

    name: str
    workload: str
    ports: tuple[str, ...]
    before: str
    after: str
    sources: tuple[Prefix, ...] = ()


def is_port(text: str) -> bool:
    """Whether it is a port of a front door, such as ``tcp/443``."""
    found = _PORT.fullmatch(text)
    return found is not None and int(found.group(2)) < 2**16
