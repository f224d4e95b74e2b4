"""Prefix translation: the host part stays, the prefix changes."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from ipaddress import IPv4Address, IPv6Address, ip_address, ip_interface

from maestoso.core.errors import BadValue
from maestoso.core.model.estate import Interface, Prefix

Address = IPv4Address | IPv6Address


def translate(address: Interface, source: Prefix, to: Prefix) -> Interface:
    """Move the host part of ``address`` (its offset in ``source``) into ``to``.

    10.20.4.17/24 from 10.20.4.0/24 to 172.18.4.0/24 is 172.18.4.17/24; prefixes may differ in length when
    the host part fits. Raises BadValue with code ``host-part-does-not-fit`` or ``wrong-family``.
    """
    if address.version != source.version or source.version != to.version:
        raise BadValue(
            f"{address} and {to} are of different address families.",
            "Translate IPv4 to IPv4 and IPv6 to IPv6.",
            code="wrong-family",
        )
    host = int(address.ip) - int(source.network_address)
    if not 0 <= host < source.num_addresses:
        raise BadValue(f"{address.ip} is not inside {source}.", "Use a rule whose prefix holds it.")
    if host >= to.num_addresses:
        raise BadValue(
            f"The host part of {address.ip} does not fit into {to}.",
            "Use a wider target prefix or a table entry for this adapter.",
            code="host-part-does-not-fit",
        )
    # By adding to the network's own address: a small number alone would be taken for IPv4.
    return ip_interface(f"{to.network_address + host}/{to.prefixlen}")


def is_reserved(address: Interface) -> bool:
    """Whether this is the network or broadcast address of its prefix (RFC 919; not for /31, RFC 3021)."""
    bits = (32 if address.version == 4 else 128) - address.network.prefixlen
    last = (1 << bits) - 1
    host = int(address) & last
    return bits > 1 and (host == 0 or (address.version == 4 and host == last))


def within(other: Address, address: Interface) -> bool:
    """Whether ``other`` is inside the prefix of ``address``."""
    bits = (32 if address.version == 4 else 128) - address.network.prefixlen
    return other.version == address.version and (int(other) ^ int(address)) >> bits == 0


@lru_cache(maxsize=65536)
def parsed(text: str) -> Address:
    """The address that a text writes; gateways and name servers come again and again."""
    return ip_address(text)


@lru_cache(maxsize=1 << 16)
def new_mac(workload: str, nic: str, run_side: str) -> str:
    """A locally administered unicast MAC (IEEE 802c) that is the same each time for the same adapter."""
    digest = hashlib.sha256(f"{workload}/{nic}/{run_side}".encode()).digest()
    first, rest = (digest[0] & 0b1111_1100) | 0b10, digest[1:6].hex(":")
    return f"{first:02x}:{rest}"
