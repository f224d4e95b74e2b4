"""Who is meant where people and roles can be named."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from maestoso.core.people.roles import ROLE
from maestoso.server.access.models import RoleGrant


def holders() -> Mapping[str, Sequence[str]]:
    """By ``role:`` and role, who has it."""
    found: dict[str, list[str]] = {}
    for name, role in RoleGrant.objects.filter(user__is_active=True).values_list("user__username", "role"):
        found.setdefault(f"{ROLE}{role}", []).append(name)
    return found


def people_meant(wanted: Iterable[str], held: Mapping[str, Sequence[str]]) -> tuple[str, ...]:
    """Those that are named, and the holders of roles that are."""
    return tuple(sorted({who for one in wanted for who in held.get(one, [one])}))
