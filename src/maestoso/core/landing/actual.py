"""What a site says that adapters really have, beside what was planned."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from maestoso.core.model.door import DoorMove
from maestoso.core.model.landing import Landing, LandingNic


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """One adapter or front door: before, planned, and what it had; ``actual`` None where the site did not
    say.

    ``differs`` says in words what is not as planned; empty where all is.
    """

    workload: str
    nic: str
    before: str
    planned: str
    actual: str | None
    differs: str = ""


def outcomes(
    landings: Iterable[Landing], doors: Iterable[DoorMove], said: Mapping[str, Any]
) -> tuple[Outcome, ...]:
    """Every adapter of every landing, then every door that is opened; ``said`` is what ``read-adapters``
    answered, nothing where it was not asked."""
    return (*_adapters(landings, said.get("adapters", {})), *_doors(doors, said.get("doors")))


def _adapters(
    landings: Iterable[Landing], said: Mapping[str, Sequence[Mapping[str, Any]]]
) -> Iterator[Outcome]:
    for landing in landings:
        has = {str(nic.get("nic")): nic for nic in said.get(landing.workload, ())}
        for nic in landing.nics:
            actual = has.get(nic.nic)
            yield Outcome(
                workload=landing.workload,
                nic=nic.nic,
                before=in_words(nic.before, nic.was_dhcp),
                planned=planned(nic),
                actual=_actual(actual) if actual is not None else None,
                differs=_difference(nic, actual) if actual is not None else "",
            )


def _doors(moves: Iterable[DoorMove], said: Sequence[Mapping[str, Any]] | None) -> Iterator[Outcome]:
    has = {str(door.get("name")): _at(door.get("address"), door.get("ports", ())) for door in said or ()}
    for one in moves:
        wanted, actual = _at(one.after, one.ports), has.get(one.name, "closed")
        yield Outcome(
            workload=one.workload, nic=f"front door {one.name}", before=_at(one.before, one.ports),
            planned=wanted, actual=actual if said is not None else None,
            differs=f"it is {actual}" if said is not None and actual != wanted else "",
        )  # fmt: skip


def _at(address: object, ports: Iterable[object]) -> str:
    return f"{address}, {' '.join(map(str, ports))}"


def in_words(addresses: Iterable[object], dhcp: bool) -> str:
    """Addresses as one text."""
    listed = ", ".join(map(str, addresses))
    return f"{listed} by DHCP" if dhcp and listed else listed or ("DHCP" if dhcp else "no address")


def planned(nic: LandingNic) -> str:
    """What an adapter should have, as one text."""
    return f"{in_words(nic.addresses, nic.dhcp)} on {nic.network}" if nic.connected else "disconnected"


def _actual(has: Mapping[str, Any]) -> str:
    if not has.get("connected", True):
        return "disconnected"
    listed = (
        in_words(has.get("addresses", ()), bool(has.get("dhcp"))) if has.get("addresses") else "no address"
    )
    return f"{listed} on {has.get('network', '')}"


def _difference(nic: LandingNic, has: Mapping[str, Any]) -> str:
    if bool(has.get("connected", True)) != nic.connected:
        return "it is connected" if not nic.connected else "it is disconnected"
    if not nic.connected:
        return ""
    network, addresses = str(has.get("network", "")), [str(text) for text in has.get("addresses", ())]
    # A network that a test made for itself carries the name of the run behind its own.
    if network != nic.network and not (nic.isolated and network.startswith(nic.network)):
        return f"it is on {network}"
    if nic.dhcp and not nic.addresses:
        return "" if addresses else "nobody gave it an address"
    if addresses != [str(address) for address in nic.addresses]:
        return f"it has {', '.join(addresses) or 'no address'}"
    return ""
