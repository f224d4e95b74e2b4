"""Prefix translation: the host part stays, the prefix changes."""

from __future__ import annotations

import hashlib
from ipaddress import IPv4Interface, ip_interface

from maestoso.core.errors import BadValue
from maestoso.core.model.estate import Interface, Prefix


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
    network = address.network
    if network.num_addresses <= 2:
        return False
    if address.ip == network.network_address:
        return True
    return isinstance(address, IPv4Interface) and address.ip == network.broadcast_address


def new_mac(workload: str, nic: str, run_side: str) -> str:
    """A locally administered unicast MAC (IEEE 802c) that is the same each time for the same adapter."""
    digest = hashlib.sha256(f"{workload}/{nic}/{run_side}".encode()).digest()
    first = (digest[0] & 0b1111_1100) | 0b10
    return ":".join(f"{byte:02x}" for byte in (first, *digest[1:6]))
