"""Where webhooks may go: the name is resolved, every address of it is looked at, and that one is spoken to.

So no name that leads inside, and none that leads elsewhere a moment later, gets a message out of the way that
it was allowed. Redirects are not followed.
"""

from __future__ import annotations

import socket
from dataclasses import dataclass
from ipaddress import ip_address
from urllib.parse import SplitResult, urlsplit, urlunsplit

from maestoso.core.errors import BadValue
from maestoso.server.common.hosts import is_named
from maestoso.server.config.settings import OPTIONS


@dataclass(frozen=True, slots=True)
class Target:
    """An address of the web by the number that its name had, and what it is called there."""

    url: str
    host: str
    name: str


def check(url: str) -> SplitResult:
    """Raises BadValue for what no webhook may have, as far as that can be said without asking."""
    try:
        parts = urlsplit(url.strip())
        good = parts.scheme in ("http", "https") and parts.hostname and parts.port != 0
    except ValueError:
        good = False
    if not good or not url.strip().isprintable() or "@" in parts.netloc or parts.fragment or len(url) > 1000:
        raise BadValue(
            f"{url[:80]!r} is no address of a program.",
            "Write it as https://tools.example/hook.",
            field="url",
        )
    if not url.strip().isascii():
        raise BadValue(
            "The address has other letters than those of ASCII, of which some look alike.",
            "Write its name as its registry does (xn--), and what follows with %.", field="url",
        )  # fmt: skip
    if parts.scheme == "http" and not is_named(parts.hostname or "", OPTIONS.message_hosts):
        raise BadValue(
            "Over http, anybody on the way could read it.",
            "Write https, or name the host in the setting message_hosts.", field="url",
        )  # fmt: skip
    return parts


def resolve(url: str) -> Target:
    """The address that is spoken to. Raises BadValue where one of them is not allowed, OSError for none."""
    parts = check(url)
    host = parts.hostname or ""
    port = parts.port or (443 if parts.scheme == "https" else 80)
    known = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    found = list(dict.fromkeys(str(one[4][0]) for one in known))
    for address in found:
        if not ip_address(address).is_global and not any(
            is_named(one, OPTIONS.message_hosts) for one in (host, address)
        ):
            raise BadValue(
                f"{host} is {address}, which is inside.",
                "If messages may go there, name it or its network in the setting message_hosts.", field="url",
            )  # fmt: skip
    number = f"[{found[0]}]" if ":" in found[0] else found[0]
    there = urlunsplit((parts.scheme, f"{number}:{port}", parts.path or "/", parts.query, ""))
    return Target(url=there, host=parts.netloc, name=host)
