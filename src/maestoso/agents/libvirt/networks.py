"""Isolated networks of tests: a network namespace for each run, with a bridge for each network, and no way
out.

The copies' own programs run outside of it; only the devices of their adapters are in it. So a copy may have
the address of the machine in production that it is a copy of.
"""

from __future__ import annotations

import ctypes
import hashlib
import json
import os
import subprocess
import threading
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any, TypeVar

T = TypeVar("T")
_NEWNET = 0x40000000
_NAMESPACES = Path("/run/netns")


class NetworkFault(Exception):
    """The host refused; the text is what it said."""


def short(*words: str) -> str:
    """A name of 8 signs: the kernel takes 15."""
    return hashlib.sha256("\0".join(words).encode()).hexdigest()[:8]


class Isolation:
    """The isolated networks of one site."""

    def __init__(self, site: str) -> None:
        self.site = site

    def space(self, mark: str) -> str:
        """The namespace of a run."""
        return f"maestoso-{short(self.site, mark)}"

    def bridge(self, network: str) -> str:
        """The bridge of a network there."""
        return f"b{short(network)}"

    def make(self, mark: str, network: str, gateways: Iterable[str]) -> None:
        """Have a network, with the gateways' addresses (CIDR) on its bridge; what is there stays.

        The networks of one run reach each other through their gateways, as in production."""
        space, bridge = self.space(mark), self.bridge(network)
        if not (_NAMESPACES / space).exists():
            ip("netns", "add", space)
        ip("-n", space, "link", "set", "lo", "up")
        inside(space, lambda: _write("/proc/sys/net/ipv4/ip_forward", "1"))
        if bridge not in [link["ifname"] for link in links(space)]:
            ip("-n", space, "link", "add", bridge, "type", "bridge")
        for gateway in gateways:
            ip("-n", space, "addr", "replace", gateway, "dev", bridge)
        ip("-n", space, "link", "set", bridge, "up")

    def put_in(self, mark: str, network: str, device: str) -> None:
        """Move an adapter's device from the host into a network."""
        space = self.space(mark)
        ip("link", "set", device, "netns", space)
        ip("-n", space, "link", "set", device, "master", self.bridge(network), "up")

    def remove(self, mark: str, network: str) -> None:
        """Take a network away, and with the last one the namespace."""
        space, bridge = self.space(mark), self.bridge(network)
        if not (_NAMESPACES / space).exists():
            return
        if bridge in [link["ifname"] for link in links(space)]:
            ip("-n", space, "link", "delete", bridge)
        if not [link for link in links(space) if link.get("linkinfo", {}).get("info_kind") == "bridge"]:
            ip("netns", "delete", space)

    def there(self, mark: str) -> bool:
        """Whether anything of it is left in the host."""
        return (_NAMESPACES / self.space(mark)).exists()

    def ways_out(self, mark: str, devices: Iterable[str]) -> list[str]:
        """What leads out of the namespace of a run, as sentences: whatever is no bridge of it, no device of a
        copy, and a route that goes anywhere else."""
        space, known = self.space(mark), set(devices)
        found = []
        bridges = set()
        for link in links(space):
            kind = link.get("linkinfo", {}).get("info_kind", "")
            if kind == "bridge":
                bridges.add(link["ifname"])
            elif link["ifname"] != "lo" and link["ifname"] not in known:
                found.append(
                    f"{link['ifname']} ({kind or 'a device of the host'}) is in the isolated namespace."
                )
        for route in json.loads(ip("-n", space, "-j", "route", "show", "table", "all") or "[]"):
            if route.get("dev") not in bridges | {"lo"}:
                found.append(f"A route to {route.get('dst')} leads over {route.get('dev')}.")
            elif route.get("gateway"):
                found.append(f"A route to {route.get('dst')} leads to {route['gateway']}.")
        return found

    def within(self, mark: str, work: Callable[[], T]) -> T:
        """Do something as a client in the networks of a run would."""
        return inside(self.space(mark), work)


def inside(space: str, work: Callable[[], T]) -> T:
    """Do something in a network namespace, in a thread of its own."""
    told: list[Any] = []

    def go() -> None:
        try:
            with (_NAMESPACES / space).open("rb") as file:
                if ctypes.CDLL(None, use_errno=True).setns(file.fileno(), _NEWNET):
                    raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
            told.extend((work(), None))
        except BaseException as error:
            told.extend((None, error))

    thread = threading.Thread(target=go)
    thread.start()
    thread.join()
    if told[1] is not None:
        raise told[1]
    return told[0]  # type: ignore[no-any-return]


def links(space: str = "") -> list[dict[str, Any]]:
    """The devices of a namespace, or of the host."""
    found: list[dict[str, Any]] = json.loads(
        ip(*(["-n", space] if space else []), "-j", "-d", "link", "show") or "[]"
    )
    return found


def ip(*words: str) -> str:
    """The program of that name. Raises NetworkFault."""
    done = subprocess.run(["ip", *words], capture_output=True, text=True, check=False)
    if done.returncode:
        raise NetworkFault(f"ip {' '.join(words)}: {done.stderr.strip()}")
    return done.stdout


def _write(file: str, text: str) -> None:
    Path(file).write_text(text)
