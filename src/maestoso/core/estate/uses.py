"""Dependencies: the map made from services that workloads offer and use."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from maestoso.core.estate.row import Row


@dataclass(frozen=True, slots=True, kw_only=True)
class Use:
    """``user`` needs ``service`` of ``provider``; an empty provider means that nobody offers it."""

    user: str
    service: str
    provider: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Gap:
    """A workload that nobody protects. ``needed_by`` are protected workloads that need it; ``needs`` what it
    needs itself."""

    workload: str
    site: str
    needed_by: tuple[str, ...]
    needs: tuple[str, ...]
    services: tuple[str, ...]


def uses(rows: Iterable[Row]) -> tuple[Use, ...]:
    """Every use in the estate, in the order of the users; the first who offers a service provides it."""
    known = list(rows)
    offered: dict[str, str] = {}
    for row in known:
        for service in row.offers:
            offered.setdefault(service, row.name)
    return tuple(
        Use(user=row.name, service=service, provider=offered.get(service, ""))
        for row in known
        for service in row.uses
    )


def gaps(rows: Iterable[Row]) -> tuple[Gap, ...]:
    """Workloads in no group; those that protected ones need come first, the most needed at the top."""
    known = {row.name: row for row in rows}
    asked: dict[str, dict[str, None]] = {}
    services: dict[str, dict[str, None]] = {}
    needs: dict[str, dict[str, None]] = {}
    for use in uses(known.values()):
        if use.provider and not known[use.user].group:
            needs.setdefault(use.user, {})[use.provider] = None
        if use.provider and known[use.user].group and not known[use.provider].group:
            asked.setdefault(use.provider, {})[use.user] = None
            services.setdefault(use.provider, {})[use.service] = None
    found = [
        Gap(
            workload=row.name, site=row.site,
            needed_by=tuple(asked.get(row.name, ())), needs=tuple(needs.get(row.name, ())),
            services=tuple(services.get(row.name, ())),
        )
        for row in known.values()
        if not row.group
    ]  # fmt: skip
    return tuple(sorted(found, key=lambda gap: -len(gap.needed_by)))
