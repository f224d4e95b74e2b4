"""Hosts and networks that a setting names, separated by commas."""

from __future__ import annotations

from ipaddress import ip_address, ip_network


def named(setting: str) -> list[str]:
    """Each of them."""
    return [name.strip() for name in setting.split(",") if name.strip()]


def is_named(host: str, setting: str) -> bool:
    """Whether a host stands there itself or, given as an address, is within one of the networks."""
    if host in named(setting):
        return True
    try:
        address = ip_address(host)
    except ValueError:
        return False
    for name in named(setting):
        try:
            if address in ip_network(name, strict=False):
                return True
        except ValueError:  # a name; or a misspelt network, which allows nothing
            continue
    return False
