"""One zone at its servers: what it says of a name, and changes of it that nobody else made meanwhile.

A change is compared and set (RFC 2136, 2.4): the server takes it only while every record of it is what it was
before. Whoever does not hold the key of the zone (RFC 8945) changes nothing.
"""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.rrset
import dns.tsig
import dns.update

from maestoso.core.model.names import KnownName, NameChange, RecordType, value_in_form

ALGORITHMS = ("hmac-sha256", "hmac-sha384", "hmac-sha512")
"""Of the keys of zones; RFC 8945 wants no older ones any more."""
ANSWER_S = 4.0
"""How long one question waits."""
NOT_AS_IT_WAS = frozenset({dns.rcode.NXRRSET, dns.rcode.YXRRSET, dns.rcode.NXDOMAIN, dns.rcode.YXDOMAIN})
_TSIG_SAYS = {
    dns.tsig.BadKey: "it does not know the key",
    dns.tsig.BadSignature: "the secret of the key is not the one that it has",
    dns.tsig.BadTime: "its clock and ours are too far apart",
    dns.tsig.PeerBadKey: "it does not know the key",
    dns.tsig.PeerBadSignature: "the secret of the key is not the one that it has",
    dns.tsig.PeerBadTime: "its clock and ours are too far apart",
}


class ServerSilent(Exception):
    """A server of a zone gave no answer: whether a change was made is not known, ask again."""


class ServerRefused(Exception):
    """A server answered that it will not; the text says why."""


class NotAsItWas(Exception):
    """Some record of a change is not what it was before; nothing was changed."""


@dataclass(frozen=True, slots=True, kw_only=True)
class ZoneServers:
    """The servers of a zone as ``host:port``: changes go to ``primary``, all must show them.

    ``secret`` is that of the key, in base64.
    """

    zone: str
    primary: str
    others: tuple[str, ...] = ()
    key_name: str = ""
    algorithm: str = ALGORITHMS[0]
    secret: str = ""

    @property
    def all(self) -> tuple[str, ...]:
        """All of them, the one that takes changes first."""
        return (self.primary, *self.others)


async def ask(server: str, zone: str, name: str, kind: RecordType) -> KnownName:
    """What one server says. Raises ServerSilent, or ServerRefused where it does not answer for the zone."""
    question = dns.message.make_query(dns.name.from_text(name), kind)
    question.flags &= ~dns.flags.RD
    answer = await _exchange(question, server)
    if answer.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN) or not answer.flags & dns.flags.AA:
        raise ServerRefused(f"{server} does not answer for {zone} ({dns.rcode.to_text(answer.rcode())}).")
    found = answer.get_rrset(
        dns.message.ANSWER, dns.name.from_text(name), dns.rdataclass.IN, dns.rdatatype.from_text(kind)
    )
    if found is None:
        return KnownName(name=name, type=kind)
    values = (value_in_form(kind, data.to_text()) for data in found)
    return KnownName(
        name=name, type=kind, values=tuple(sorted(value for value in values if value)), ttl_s=found.ttl
    )


async def change(servers: ZoneServers, changes: Iterable[NameChange]) -> None:
    """All of it at the primary, or nothing. Raises ServerSilent, ServerRefused or NotAsItWas."""
    request = _update(servers)
    for one in changes:
        name, kind = dns.name.from_text(one.name), dns.rdatatype.from_text(one.type)
        if one.before:
            request.present(name, *_records(one.before, one))
        elif one.before is not None:
            request.absent(name, kind)
        request.delete(name, kind)
        if one.after:
            request.add(name, dns.rdataset.from_rdata_list(one.ttl_s, _records(one.after, one)))
    await _send(servers, request)


async def try_key(servers: ZoneServers) -> None:
    """Whether the primary takes changes with this key: a change of nothing. Raises as ``change``."""
    request = _update(servers)
    request.present(dns.name.from_text(servers.zone), "SOA")
    await _send(servers, request)


def _update(servers: ZoneServers) -> dns.update.UpdateMessage:
    key = dns.tsig.Key(servers.key_name, servers.secret, servers.algorithm)
    return dns.update.UpdateMessage(f"{servers.zone}.", keyring=key)


async def _send(servers: ZoneServers, request: dns.update.UpdateMessage) -> None:
    answer = await _exchange(request, servers.primary, signed=True)
    said = answer.rcode()
    if said in NOT_AS_IT_WAS:
        raise NotAsItWas(dns.rcode.to_text(said))
    if said == dns.rcode.SERVFAIL:
        raise ServerSilent(f"{servers.primary} has trouble of its own (SERVFAIL).")
    if said != dns.rcode.NOERROR:
        words = {
            dns.rcode.REFUSED: f"does not let the key {servers.key_name} change {servers.zone}",
            dns.rcode.NOTAUTH: f"is not the primary server of {servers.zone}",
            dns.rcode.NOTZONE: f"says that a name is not in {servers.zone}",
            dns.rcode.NOTIMP: "takes no changes (RFC 2136)",
        }.get(said, f"refused the change ({dns.rcode.to_text(said)})")
        raise ServerRefused(f"{servers.primary} {words}.")


def _records(values: Sequence[str], one: NameChange) -> list[Any]:
    absolute = one.type in ("CNAME", "PTR", "SRV")
    texts = [f"{value}." if absolute else value for value in values]
    return list(dns.rrset.from_text_list(one.name, one.ttl_s, "IN", one.type, texts))


async def _exchange(message: Any, server: str, *, signed: bool = False) -> Any:
    host, _, port = server.rpartition(":")
    try:
        address = await _resolved(host.strip("[]"))
        if signed:
            return await dns.asyncquery.tcp(message, address, timeout=ANSWER_S, port=int(port))
        answer, _ = await dns.asyncquery.udp_with_fallback(message, address, timeout=ANSWER_S, port=int(port))
        return answer
    except tuple(_TSIG_SAYS) as error:
        raise ServerRefused(f"{server} refused it: {_TSIG_SAYS[type(error)]}.") from error
    except dns.exception.FormError as error:
        # Success is signed; what is not signed can only be a refusal, and whose is not known.
        said = (
            "It does not have that zone, or does not know the key."
            if signed
            else "What it said cannot be read."
        )
        raise ServerRefused(f"{server} refused it. {said}") from error
    except (dns.exception.Timeout, TimeoutError) as error:
        raise ServerSilent(f"{server} does not answer.") from error
    # The second is for a host name that cannot be.
    except (OSError, UnicodeError, EOFError, dns.exception.DNSException) as error:
        said = getattr(error, "strerror", "") or str(error) or type(error).__name__
        raise ServerSilent(f"{server} cannot be spoken to: {said}.") from error


async def _resolved(host: str) -> str:
    found = await asyncio.get_running_loop().getaddrinfo(host, None)
    return str(found[0][4][0])


def turned_back(changes: Iterable[NameChange]) -> list[NameChange]:
    """The same records the other way round; those that are not known as they were are left out."""
    return [
        NameChange(
            zone=one.zone, name=one.name, type=one.type, ttl_s=one.before_ttl_s or one.ttl_s,
            after=one.before, before=one.after, before_ttl_s=one.ttl_s,
        )
        for one in changes
        if one.before is not None
    ]  # fmt: skip


def by_zone(changes: Iterable[NameChange]) -> Mapping[str, list[NameChange]]:
    """Changes by their zones, in order."""
    found: dict[str, list[NameChange]] = {}
    for one in changes:
        found.setdefault(one.zone, []).append(one)
    return found
