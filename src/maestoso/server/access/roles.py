"""The roles that people can have: those that every organisation has, and its own."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.people.roles import BY_CODE, Role, own_role
from maestoso.server.access.models import ApiToken, IdentityProvider, OwnRole, RoleGrant, RoleRule
from maestoso.server.access.shapes import OwnRoleSave
from maestoso.server.audit.record import recorded

MOST_ROLES = 50


def known_roles(needed: Collection[str] | None = None) -> Mapping[str, Role]:
    """All roles by code; where only some are ``needed``, at least those."""
    if needed is not None and all(code in BY_CODE for code in needed):
        return BY_CODE
    return {**BY_CODE, **{row.code: row.role() for row in OwnRole.objects.order_by("name")}}


def find_role(code: str) -> Role:
    """A role. Raises NotFound."""
    known = known_roles()
    if code not in known:
        raise NotFound(f"There is no role {code[:40]!r}.", f"Roles are: {', '.join(known)}.")
    return known[code]


def check_codes(codes: Collection[str]) -> None:
    """Raises BadValue for a role that there is not."""
    known = known_roles(codes)
    unknown = sorted(code for code in codes if code not in known)
    if unknown:
        raise BadValue(
            f"There is no role {unknown[0][:40]!r}.", f"Roles are: {', '.join(known_roles())}.", field="roles"
        )


@recorded()
def make_role(sent: OwnRoleSave) -> Role:
    """A role of the organisation's own. Raises BadValue, Refused."""
    role = own_role(sent.name, sent.words, sent.permissions)
    if role.code in known_roles():
        raise Refused(f"There is a role {role.name} already.", "Choose another name.", field="name")
    if OwnRole.objects.count() >= MOST_ROLES:
        raise Refused(f"There are {MOST_ROLES} own roles.", "Remove those that nobody has.")
    _write(OwnRole(code=role.code), role)
    return role


@recorded()
def change_role(code: str, sent: OwnRoleSave) -> Role:
    """Another name or other permissions, which count at once; the code stays. Raises NotFound, Refused,
    BadValue."""
    row = _own(code)
    role = own_role(sent.name, sent.words, sent.permissions)
    if any(one.name.lower() == role.name.lower() and one.code != code for one in known_roles().values()):
        raise Refused(f"There is a role {role.name} already.", "Choose another name.", field="name")
    _write(row, role)
    return row.role()


@recorded()
def remove_role(code: str) -> None:
    """Raises NotFound; Refused for one that somebody has, or that a group of the provider gives."""
    row = _own(code)
    held = RoleGrant.objects.filter(role=code).count()
    if held:
        raise Refused(f"{held} {'person has' if held == 1 else 'people have'} the role {row.name}.",
                      "Take it from them first.")  # fmt: skip
    if any(code in roles for one in IdentityProvider.objects.all() for roles in one.roles.values()):
        raise Refused(f"A group of the provider gives the role {row.name}.", "Change what it gives first.")
    RoleRule.objects.filter(role=code).delete()
    for token in ApiToken.objects.all():
        if code in token.roles:
            token.roles = [one for one in token.roles if one != code]
            token.save()
    row.delete()


def _own(code: str) -> OwnRole:
    role = find_role(code)
    row = OwnRole.objects.select_for_update().filter(code=code).first()
    if row is None:
        raise Refused(f"The role {role.name} is one that every organisation has.", "Make an own role.")
    return row


def _write(row: OwnRole, role: Role) -> None:
    row.name, row.words, row.permissions = role.name, role.words, sorted(role.permissions)
    row.save()
