"""What the API says of zones."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownNameView:
    """What a name led to when its zone was read last, and since when that is known.

    Without values it leads nowhere.
    """

    name: str
    type: str
    values: tuple[str, ...]
    ttl_s: int
    since: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ZoneView:
    """A zone without the secret of its key.

    ``used_by`` are the codes of plans whose newest version changes names of it, ``names`` those names.
    ``problem`` says why it could not be read, and is empty where it could.
    """

    zone: str
    primary: str
    others: tuple[str, ...]
    key_name: str
    algorithm: str
    author: str
    saved_at: datetime
    revision: int
    read_at: datetime | None
    problem: str
    used_by: tuple[str, ...]
    names: tuple[KnownNameView, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ZoneSave:
    """A zone to keep under the name in the address. Servers are ``host:port``; without a port it is 53.

    ``secret`` is that of the key, in base64; empty keeps what is stored. ``based_on`` is the revision, 0 for
    a new one.
    """

    primary: str
    others: tuple[str, ...] = ()
    key_name: str
    algorithm: str = "hmac-sha256"
    secret: str = ""
    based_on: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerTried:
    """What came of asking one server of a zone; of the primary, whether it takes changes as well."""

    server: str
    well: bool
    said: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ZoneTried:
    """What came of a trial; nothing is changed by it."""

    servers: tuple[ServerTried, ...]
