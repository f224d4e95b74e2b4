"""How clients from outside come to a machine: addresses on an interface of the host, translated by nftables,
or passed on by this process where the machine is in an isolated network."""

from __future__ import annotations

import json
import logging
import selectors
import socket
import struct
import subprocess
import threading
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass
from ipaddress import ip_address, ip_network
from typing import cast

from maestoso.agent_kit.front_doors import lets_in

from .networks import NetworkFault, ip, links

log = logging.getLogger("site-agent")
MOST_CLIENTS = 64
"""That one door of a test passes on at the same time."""
IDLE_S = 60.0


@dataclass(frozen=True, slots=True)
class Way:
    """One port of a door that is open, and where it leads."""

    address: str
    protocol: str
    port: int
    to: str
    sources: tuple[str, ...] = ()


class Translation:
    """The ways of live machines by destination NAT: one table of nftables of the agent's own, replaced as a
    whole."""

    def __init__(self, site: str) -> None:
        self.table = f"maestoso_{site.lower()}"
        self._done: str | None = None

    def have(self, ways: Iterable[Way]) -> None:
        """Have these ways and no others; nothing is done where they are there. Raises NetworkFault."""
        text = self.rules(tuple(ways))
        # Whoever loads rules of their own may have taken all others away.
        if text == self._done and not _nft("list", "table", "inet", self.table).returncode:
            return
        done = _nft("-f", "-", said=text)
        if done.returncode:
            raise NetworkFault(f"nft: {done.stderr.strip()}")
        self._done = text

    def rules(self, ways: tuple[Way, ...]) -> str:
        """The table in one transaction. Who comes from this host itself is not asked from where."""
        outside = "\n".join(_rule(one, one.sources) for one in ways)
        here = "\n".join(_rule(one, ()) for one in ways)
        return f"""\
table inet {self.table}
delete table inet {self.table}
table inet {self.table} {{
  chain outside {{
    type nat hook prerouting priority dstnat; policy accept;
{outside}
  }}
  chain here {{
    type nat hook output priority -100; policy accept;
{here}
  }}
}}
"""


def _nft(*words: str, said: str = "") -> subprocess.CompletedProcess[str]:
    return subprocess.run(["nft", *words], input=said, capture_output=True, text=True, check=False)


def _rule(way: Way, sources: Iterable[str]) -> str:
    family = "ip6" if ":" in way.address else "ip"
    near = [one for one in sources if (":" in one) == (family == "ip6")]
    allowed = f" {family} saddr {{ {', '.join(near)} }}" if near else ""
    # Only of the other family: nobody of this one may come in.
    shut = "drop" if tuple(sources) and not near else f"dnat {family} to {way.to}"
    return f"    {family} daddr {way.address}{allowed} {way.protocol} dport {way.port} {shut}"


class Relay:
    """One TCP port of a door of a test. Nothing leads into the isolated network, and nothing out of it: what
    comes is read here, and written there."""

    def __init__(self, way: Way, connect: Callable[[], socket.socket]) -> None:
        """``connect`` makes a line to the copy, from inside of its network. Raises OSError."""
        self.way = way
        self._connect = connect
        self._free = threading.BoundedSemaphore(MOST_CLIENTS)
        self._door = socket.create_server(
            (way.address, way.port), family=socket.AF_INET6 if ":" in way.address else socket.AF_INET
        )
        threading.Thread(target=self._open, daemon=True).start()

    def close(self) -> None:
        """Nobody comes in any more."""
        with suppress(OSError):
            self._door.shutdown(socket.SHUT_RDWR)
        self._door.close()

    def _open(self) -> None:
        while True:
            try:
                client, who = self._door.accept()
            except OSError:
                return
            if not lets_in(self.way.sources, who[0]) or not self._free.acquire(blocking=False):
                client.close()
                continue
            threading.Thread(target=self._serve, args=(client,), daemon=True).start()

    def _serve(self, client: socket.socket) -> None:
        try:
            with client, self._connect() as copy:
                _pass_on(client, copy)
        except OSError as error:
            log.info("Through %s port %d nobody came: %s", self.way.address, self.way.port, error)
        finally:
            self._free.release()


def _pass_on(one: socket.socket, other: socket.socket) -> None:
    """Until either ends, or nothing was said for a while."""
    ways = {one: other, other: one}
    with selectors.DefaultSelector() as waiting:
        for each in ways:
            waiting.register(each, selectors.EVENT_READ)
        while ways:
            ready = waiting.select(IDLE_S)
            if not ready:
                return
            for key, _ in ready:
                line = cast(socket.socket, key.fileobj)
                there = ways[line]
                said = line.recv(65536)
                if said:
                    there.sendall(said)
                    continue
                waiting.unregister(line)
                del ways[line]
                with suppress(OSError):
                    there.shutdown(socket.SHUT_WR)


class Addresses:
    """The addresses of doors on an interface; those of the ranges are the agent's alone."""

    def __init__(self, interface: str, ranges: Iterable[str]) -> None:
        self.interface = interface
        self.ranges = [ip_network(one) for one in ranges]

    def can(self, address: str) -> bool:
        """Whether it is of the ranges."""
        at = ip_address(address)
        return any(at in one for one in self.ranges if one.version == at.version)

    def have(self, wanted: set[str]) -> None:
        """Have these addresses, and none of the ranges beside them. Raises NetworkFault."""
        has = self._has()
        for address in sorted(has - wanted):
            ip("address", "delete", _whole(address), "dev", self.interface)
        for address in sorted(wanted - has):
            # Without looking first whether somebody else has it (IPv6): what is asked for is known here.
            ip(
                "address",
                "replace",
                _whole(address),
                "dev",
                self.interface,
                *(["nodad"] if ":" in address else []),
            )
            if ":" not in address:
                self._say(address)

    def _has(self) -> set[str]:
        (said,) = json.loads(ip("-j", "address", "show", "dev", self.interface))
        whole = {(one["local"], one["prefixlen"]) for one in said["addr_info"]}
        return {at for at, length in whole if length == ip_address(at).max_prefixlen and self.can(at)}

    def _say(self, address: str) -> None:
        """Tell the segment whose the address is now (RFC 5227, 2.3): it may have moved from another site."""
        mac = next(
            bytes.fromhex(one["address"].replace(":", ""))
            for one in links()
            if one["ifname"] == self.interface
        )
        everybody, at = b"\xff" * 6, socket.inet_aton(address)
        said = struct.pack("!HHBBH", 1, 0x0800, 6, 4, 1) + mac + at + bytes(6) + at
        with suppress(OSError), socket.socket(socket.AF_PACKET, socket.SOCK_RAW) as line:
            line.bind((self.interface, 0))
            line.send(everybody + mac + b"\x08\x06" + said)


def _whole(address: str) -> str:
    return f"{address}/{ip_address(address).max_prefixlen}"
