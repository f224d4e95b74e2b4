"""A name server inside of an isolated network (RFC 1035): it knows the names of a run and nothing else."""

from __future__ import annotations

import logging
import socket
import struct
import threading
from collections.abc import Callable, Mapping
from contextlib import suppress
from functools import partial
from typing import Any

import dns.exception
import dns.flags
import dns.message
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset

log = logging.getLogger("site-agent")
PORT = 53
TTL_S = 5
LONGEST = 65535
IDLE_S = 20.0
Names = Mapping[tuple[str, str], tuple[str, ...]]
"""Values by name (lower case, without a full stop at its end) and type."""


def answered(asked: bytes, names: Names) -> bytes:
    """The answer to a question. Raises dns.exception.DNSException for what is none.

    A CNAME is answered together with what it leads to, as far as that is known.
    """
    question = dns.message.from_wire(asked)
    reply = dns.message.make_response(question, recursion_available=True)
    if len(question.question) != 1:
        reply.set_rcode(dns.rcode.FORMERR)
        return reply.to_wire()
    wanted = question.question[0]
    reply.flags |= dns.flags.AA
    name, kind = wanted.name.to_text().rstrip(".").lower(), dns.rdatatype.to_text(wanted.rdtype)
    for _ in range(8):
        for there in (kind, "CNAME"):
            values = names.get((name, there), ())
            if values:
                full = [f"{one}." if there in ("CNAME", "PTR", "SRV") else one for one in values]
                reply.answer.append(dns.rrset.from_text(f"{name}.", TTL_S, "IN", there, *full))
                break
        else:
            break
        if there == kind:
            break
        name = values[0].rstrip(".").lower()
    if not reply.answer and not any(known == name for known, _ in names):
        reply.set_rcode(dns.rcode.NXDOMAIN)
    return reply.to_wire(max_size=LONGEST)


class Resolver:
    """It listens at the addresses where copies ask, from inside of their networks."""

    def __init__(
        self, addresses: tuple[str, ...], names: Names, within: Callable[[Callable[[], Any]], Any]
    ) -> None:
        """``within`` does something in the networks. Raises OSError."""
        self.addresses = addresses
        self.names = dict(names)
        self._open: list[socket.socket] = []
        try:
            for address in addresses:
                for kind in (socket.SOCK_DGRAM, socket.SOCK_STREAM):
                    self._open.append(within(partial(_listening, address, kind)))
        except OSError:
            self.close()
            raise
        for line in self._open:
            work = self._datagrams if line.type == socket.SOCK_DGRAM else self._streams
            threading.Thread(target=work, args=(line,), daemon=True).start()

    def close(self) -> None:
        """It answers no more."""
        for line in self._open:
            with suppress(OSError):
                line.shutdown(socket.SHUT_RDWR)
            line.close()

    def _datagrams(self, line: socket.socket) -> None:
        while True:
            try:
                asked, who = line.recvfrom(LONGEST)
            except OSError:
                return
            if not who:
                return  # it was shut down
            with suppress(OSError, dns.exception.DNSException):
                line.sendto(answered(asked, self.names), who)

    def _streams(self, line: socket.socket) -> None:
        while True:
            try:
                client, _ = line.accept()
            except OSError:
                return
            threading.Thread(target=self._stream, args=(client,), daemon=True).start()

    def _stream(self, client: socket.socket) -> None:
        with client, suppress(OSError, struct.error, dns.exception.DNSException):
            client.settimeout(IDLE_S)
            heard = client.makefile("rb")
            while True:
                (length,) = struct.unpack("!H", heard.read(2))
                said = answered(heard.read(length), self.names)
                client.sendall(struct.pack("!H", len(said)) + said)


def _listening(address: str, kind: socket.SocketKind) -> socket.socket:
    line = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, kind)
    try:
        line.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        line.bind((address, PORT))
        if kind == socket.SOCK_STREAM:
            line.listen(64)
    except OSError:
        line.close()
        raise
    return line
