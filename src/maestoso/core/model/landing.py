"""Where one workload comes down at the target."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass

from maestoso.core.codec import to_data
from maestoso.core.model.crosswalk import Side
from maestoso.core.model.estate import Interface, Workload


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingNic:
    """One adapter at the target. ``before`` are its addresses at the source.

    ``isolated``: each test makes this network for itself, in the likeness of ``like``. With ``dhcp``,
    ``addresses`` are those that the target reserves for its MAC. ``decided`` says what gave it its
    addresses: the prefix of a rule, ``table``, ``dhcp``, ``reservation`` (the target has one for its MAC),
    ``home`` (it is again what it was before it left), or nothing where nothing did.
    """

    nic: str
    network: str
    isolated: bool
    mac: str
    dhcp: bool
    before: tuple[Interface, ...]
    addresses: tuple[Interface, ...]
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()
    suffix: str = ""
    connected: bool = True
    was_dhcp: bool = False
    like: str = ""
    decided: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class LandingDisk:
    """One disk at the target."""

    disk: str
    storage_pool: str
    size_gib: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Landing:
    """Where and how one workload comes down at the target; ``name`` is what it is called there."""

    workload: str
    side: Side
    host_pool: str
    cores: int
    memory_mib: int
    disks: tuple[LandingDisk, ...]
    nics: tuple[LandingNic, ...]
    name: str = ""
    folder: str = ""

    def places(self) -> list[tuple[str, str]]:
        """Network and address of everything it has at the target."""
        return [(nic.network, str(address.ip)) for nic in self.nics for address in nic.addresses]

    def digest(self) -> str:
        """A fingerprint of the whole landing."""
        return hashlib.sha256(json.dumps(to_data(self), sort_keys=True).encode()).hexdigest()[:16]


def gets_new_settings(workload: Workload, nic: LandingNic) -> bool:
    """Whether an adapter comes down with other settings than its guest has."""
    if not nic.connected:
        return False
    if nic.dhcp:
        return not nic.was_dhcp
    before = next((one for one in workload.nics if one.name == nic.nic), None)
    had = (before.dhcp, before.addresses, before.gateways, before.dns) if before else None
    return bool(nic.addresses) and had != (False, nic.addresses, nic.gateways, nic.dns)
