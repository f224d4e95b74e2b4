"""Whether whoever asks may: by the table, and by what they ask for."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from typing import Any

from django.contrib.auth.models import User
from rest_framework.permissions import BasePermission
from rest_framework.request import Request

from maestoso.core.errors import DomainError, NotFound
from maestoso.core.people.roles import WORDS, permissions_of, refusal, roles_with
from maestoso.server.access.models import ApiToken, RoleGrant
from maestoso.server.access.reach import check_object, check_reach, scopes_of
from maestoso.server.access.roles import known_roles
from maestoso.server.access.second_factor import why_restricted
from maestoso.server.access.table import ANYBODY, BY_KIND, OWN, TABLE, TO_RESTORE
from maestoso.server.estate.models import Retired
from maestoso.server.jobs.services import may_take


class NotPermitted(DomainError):
    """The roles of whoever asks do not include it. Remedy: ask somebody who may, or to be given the role."""

    code = "not-permitted"
    status = 403


class NeedsSecondFactor(DomainError):
    """A role wants a second factor, and there is none. Remedy: set one up."""

    code = "needs-second-factor"
    status = 403


class InTable(BasePermission):
    """Asked before every view: what the table says of its address and method."""

    def has_permission(self, request: Request, view: Any) -> bool:
        """Raises NotPermitted. False for nobody, where somebody must be signed in."""
        needed = needed_for(request)
        if needed == ANYBODY:
            return True
        if not request.user.is_authenticated:
            return False
        if needed == OWN and isinstance(request.auth, ApiToken):
            # It could make itself a token of every role of its person, or change what tells people apart.
            raise NotPermitted("A token has no account: only who signed in may use this address.", "Sign in.")
        if needed != OWN:
            _refuse_restricted(request)
            permission = _to_restore(request) if needed == BY_KIND else needed
            require(request, permission)
            match = request.resolver_match
            assert match is not None
            address = address_of(match.route.removeprefix("api/v1/"))
            check_reach(
                request, permission, str(request.method), address, match.kwargs, lambda: _sent(request)
            )
        return True


def _sent(request: Request) -> Any:
    """The JSON that was sent; None for nothing, and for what is none."""
    is_json = "json" in request.headers.get("Content-Type", "")
    return request.data if is_json and request.headers.get("Content-Length") not in (None, "", "0") else None


def _refuse_restricted(request: Request) -> None:
    """Who must have a second factor sets it up before anything else. A token was made by who may."""
    if isinstance(request.auth, ApiToken):
        return
    why = why_restricted(request.user, roles_of(request))
    if why:
        raise NeedsSecondFactor(why, "Set it up under My account.")


def address_of(route: str) -> str:
    """A route of Django as the contract writes it."""
    return re.sub(r"<(?:\w+:)?(\w+)>", lambda found: "{" + _ARGUMENTS.get(found[1], found[1]) + "}", route)


_ARGUMENTS = {"pk": "id"}


def needed_for(request: Request) -> str:
    """What the table says of an address and method. Raises NotPermitted for what is not in it."""
    match = request.resolver_match
    assert match is not None
    method = "GET" if request.method in ("HEAD", "OPTIONS") else str(request.method)
    needed = TABLE.get(address_of(match.route.removeprefix("api/v1/")), {}).get(method)
    if needed is None:
        raise NotPermitted("This address is in no table of permissions, so nobody may use it.", "Report it.")
    return needed


def _to_restore(request: Request) -> str:
    """What the kind of a retired thing needs. Raises NotFound."""
    assert request.resolver_match is not None
    kept = Retired.objects.filter(pk=request.resolver_match.kwargs["pk"])
    kind = kept.values_list("kind", flat=True).first()
    if kind is None:
        raise NotFound("It is not among the retired things any more.", "Load the page again.")
    return TO_RESTORE[kind]


def roles_of(request: Request) -> frozenset[str]:
    """The roles that count for a request: those of the person, or of them those that its token may use."""
    known: frozenset[str] | None = getattr(request, "_roles", None)
    if known is None:
        known = frozenset(scopes_of(request))
        request._roles = known  # type: ignore[attr-defined]
    return known


def require(request: Request, permission: str, kind: str = "", *key: str) -> None:
    """Raises NotPermitted, naming who may; and for an object NotFound, or OutsideScope."""
    roles = roles_of(request)
    known = known_roles(roles)
    if permission not in permissions_of(roles, known):
        raise NotPermitted(*refusal(permission, sorted(roles), able(permission), known))
    if kind:
        check_object(request, permission, kind, key)


@may_take.hears
def _still_may(request: Request, needs: Sequence[str]) -> None:
    """Who asked for a job may have lost since what its result needs."""
    require(request, *needs)


def able(permission: str, but: str = "") -> list[str]:
    """Names of those who have a permission and can sign in; ``but`` whoever signs in as this."""
    codes = [role.code for role in roles_with(permission, known_roles())]
    found = User.objects.filter(is_active=True, grants__role__in=codes).distinct().order_by("username")
    return [called(user) for user in found if user.username != but]


def called(user: User) -> str:
    """What a person is called: by the full name, where there is one."""
    return user.first_name or user.username


def lacking(roles: Collection[str]) -> dict[str, str]:
    """By permission that these roles do not hold: why not, and who may."""
    known = known_roles()
    own = permissions_of(roles, known)
    missing = [one for one in WORDS if one not in own]
    if not missing:
        return {}
    held: dict[str, set[str]] = {one: set() for one in missing}
    # One question for all of them: pages ask for this every half minute.
    for grant in RoleGrant.objects.filter(user__is_active=True).select_related("user"):
        for one in permissions_of([grant.role], known) & held.keys():
            held[one].add(called(grant.user))
    return {one: " ".join(refusal(one, sorted(roles), held[one], known)) for one in missing}
