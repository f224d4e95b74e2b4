"""What whoever asks can get at: by the scopes of their roles."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from django.apps import apps
from django.contrib.auth import SESSION_KEY
from rest_framework.request import Request

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue, DomainError, NotFound
from maestoso.core.people.roles import SEE, WORDS, permissions_of
from maestoso.core.people.scope import EVERYTHING, NOTHING, Facts, Reach, Scope, reach_of, within
from maestoso.server.access.models import ApiToken, RoleGrant
from maestoso.server.access.roles import known_roles
from maestoso.server.access.scoped import LISTS, OBJECTS, OF_A_PLAN, OF_A_THING, OF_NOBODY
from maestoso.server.access.sessions import TOKEN, held_by, shown_by
from maestoso.server.common.hooks import Hook
from maestoso.server.common.seen import note_seen
from maestoso.server.estate.models import Site
from maestoso.server.estate.workloads import search

FACTS: Hook[[], Facts] = Hook()
"""Tells what scopes look at; whoever knows plans and groups hears it."""
Scopes = Mapping[str, Scope]


class OutsideScope(DomainError):
    """A role is for some sites or plans, and this is not among them. Remedy: ask somebody whose role is."""

    code = "outside-scope"
    status = 403


def scopes_of(request: Request) -> Scopes:
    """What the roles that count for a request are given for, by role."""
    known: Scopes | None = getattr(request, "_scopes", None)
    if known is None:
        known = scopes_of_user(request.user.pk)
        if isinstance(request.auth, ApiToken):
            known = {role: scope for role, scope in known.items() if role in request.auth.roles}
        request._scopes = known  # type: ignore[attr-defined]
    return known


def scopes_of_user(pk: int | None) -> Scopes:
    """What the roles of a person are given for."""
    rows = RoleGrant.objects.filter(user=pk).values_list("role", "scope")
    return {role: from_data(Scope, scope) for role, scope in rows}


def only_for(request: Request) -> str:
    """What whoever asks sees, in words; empty for everything."""
    known = known_roles(scopes_of(request).keys())
    given = [scope for role, scope in scopes_of(request).items() if SEE in permissions_of([role], known)]
    if any(scope.is_everything for scope in given):
        return ""
    return " and ".join(dict.fromkeys(scope.words() for scope in given))


def reach_for(request: Request, permission: str) -> Reach:
    """What whoever asks can get at with a permission; nothing for who does not have it."""
    kept: dict[str, Reach] = request.__dict__.setdefault("_reach", {})
    if permission not in kept:
        token = request.auth if isinstance(request.auth, ApiToken) else None
        kept[permission] = _narrowed(_reach(scopes_of(request), permission), token)
    return kept[permission]


def seen_by_user(name: str) -> Reach:
    """What somebody can see, by name."""
    rows = RoleGrant.objects.filter(user__username=name).values_list("role", "scope")
    return _reach({role: from_data(Scope, scope) for role, scope in rows}, SEE)


def seen_in(session: str) -> Reach:
    """What whoever has a session can see, by its key, or a program by its token."""
    if session.startswith(TOKEN):
        token = shown_by(session)
        if token is None:
            return NOTHING
        scopes = scopes_of_user(token.user_id)
        own = {role: scope for role, scope in scopes.items() if role in token.roles}
        return _narrowed(_reach(own, SEE), token)
    pk = held_by([session]).get(session, {}).get(SESSION_KEY)
    return _reach(scopes_of_user(int(pk)) if pk else {}, SEE)


def _narrowed(reach: Reach, token: ApiToken | None) -> Reach:
    """What of it a token is for."""
    scope = from_data(Scope, token.scope) if token is not None else Scope()
    if scope.is_everything:
        return reach
    (facts,) = FACTS()
    return within(reach, reach_of([scope], facts))


def _reach(scopes: Scopes, permission: str) -> Reach:
    known = known_roles(scopes.keys())
    given = [scope for role, scope in scopes.items() if permission in permissions_of([role], known)]
    if not given:
        return NOTHING
    if any(scope.is_everything for scope in given):
        return EVERYTHING
    (facts,) = FACTS()
    return reach_of(given, facts)


def check_reach(
    request: Request, permission: str, method: str, address: str, arguments: Mapping[str, Any],
    sent: Callable[[], Any],
) -> None:  # fmt: skip
    """Whether what a request is about lies within reach. The permission itself was looked at before.

    Raises NotFound for what whoever asks cannot see, OutsideScope for what they may see and not do.
    """
    seen, able = reach_for(request, SEE), reach_for(request, permission)
    note_seen(request, seen)
    if able.everything and seen.everything:
        return
    begins = next((begin for begin in OBJECTS if f"{address}/".startswith(f"{begin}/")), None)
    if begins is not None:
        check_object(request, permission, OBJECTS[begins], tuple(map(str, arguments.values())))
        if OBJECTS[begins] == "way":
            # A crosswalk is one for all who have workloads there; its exceptions name whomever they must.
            return
    elif address == "crosswalks/landings":
        body = sent()
        walk = body.get("crosswalk") if isinstance(body, dict) else None
        ends = (str(walk.get("source")), str(walk.get("target"))) if isinstance(walk, dict) else ("", "")
        check_object(request, permission, "way", ends)
        return
    elif (method, address) in OF_A_PLAN:
        body = sent()
        plan = body.get("plan") if isinstance(body, dict) else None
        check_object(request, permission, "plan", (str(plan),))
    elif (method, address) in OF_A_THING:
        body = sent()
        about, name = (body.get("about"), body.get("name")) if isinstance(body, dict) else (None, None)
        kind = about if about in ("plan", "group", "workload") else "plan"
        check_object(request, permission, kind, (str(name),))
    elif not (permission == SEE and address in LISTS | OF_NOBODY) and not able.everything:
        raise OutsideScope(*_only_for(request, permission, "not for everything"))
    if not seen.everything:
        _check_named(sent(), seen)


def check_object(request: Request, permission: str, kind: str, key: tuple[str, ...]) -> None:
    """Whether an object lies within reach. Raises NotFound, OutsideScope.

    A site, and what lies between two, is opened only by whose role is for one of these sites: it holds
    what others have there too.
    """
    seen, able = reach_for(request, SEE), reach_for(request, permission)
    if not _is_in(seen, kind, key):
        raise NotFound(f"There is no {NAMES[kind]} {' to '.join(key[:2])[:40]}.", "See what there is.")
    sites = key[:2] if kind == "way" else key[:1] if kind == "site" else ()
    if not (able.owns(*sites) if sites else _is_in(able, kind, key)):
        raise OutsideScope(*_only_for(request, permission, "not for this one"))


NAMES = {
    "plan": "plan", "group": "group", "workload": "workload", "site": "site", "way": "way",
    "run": "run", "drill": "drill", "approval": "request", "trap": "known trap", "outage": "declared outage",
}  # fmt: skip


ABOUT_A_PLAN = {
    "drill": ("drills", "DrillRow", "plan_code"),
    "approval": ("approvals", "ApprovalRequest", "plan"),
    "outage": ("declared", "DeclaredOutage", "plan"),
}


def _is_in(reach: Reach, kind: str, key: tuple[str, ...]) -> bool:
    if reach.everything:
        return True
    if kind == "way":
        return reach.has_way(key[0], key[1])
    if kind == "run":
        # By their names: what is above knows access, and access does not know what is above.
        run = apps.get_model("runs", "Run").objects.filter(pk=key[0])
        found = run.values_list("plan_code", "source", "target").first()
        return found is not None and reach.has_run(*found)
    if kind == "trap":
        trap = apps.get_model("plans", "KnownTrap").objects.filter(pk=key[0])
        about = trap.values_list("about", "name").first()
        return about is not None and reach.has(*about)
    if kind in ABOUT_A_PLAN:
        app, model, field = ABOUT_A_PLAN[kind]
        row = apps.get_model(app, model).objects.filter(pk=key[0])
        return reach.has("plan", row.values_list(field, flat=True).first() or "")
    return reach.has(kind, key[0])


def _only_for(request: Request, permission: str, so: str) -> tuple[str, str]:
    if isinstance(request.auth, ApiToken) and request.auth.scope:
        said = from_data(Scope, request.auth.scope).words()
        return f"The token is {said}, and {so}.", "Make one that is for more."
    known = known_roles()
    held = [
        f"{known[role].name.lower()} {scope.words()}"
        for role, scope in scopes_of(request).items()
        if role in known and permission in known[role].permissions
    ]
    return (
        f"You may {WORDS[permission]} as {' and as '.join(held)}, and {so}.",
        "Ask somebody whose role is for everything.",
    )


def _check_named(body: Any, seen: Reach) -> None:
    """Whether all that a body names can be seen: members, parts, what rules match, and where it goes."""
    for part in (body.get("plan"), body.get("group")) if isinstance(body, dict) else ():
        if isinstance(part, dict) and "source" in part and "target" in part:
            source, target = str(part["source"]), str(part["target"])
            if not seen.has_way(source, target):
                raise NotFound(f"There is no way {source[:12]} to {target[:12]}.", "Choose other sites.")
    for kind, name in _named(body):
        if not seen.has(kind, name):
            raise NotFound(f"There is no {kind} {name[:40]}.", "Take it out.")


def _named(body: Any) -> Iterator[tuple[str, str]]:
    if isinstance(body, list):
        for one in body:
            yield from _named(one)
    if not isinstance(body, dict):
        return
    for key, value in body.items():
        if key == "workload" and isinstance(value, str) and value:
            yield "workload", value
        elif (
            key in ("members", "names") and isinstance(value, list) and all(isinstance(v, str) for v in value)
        ):
            yield from (("workload", name) for name in value)
        elif key == "parts" and isinstance(value, list):
            yield from (("plan", str(one.get("plan"))) for one in value if isinstance(one, dict))
        elif key in ("tag_rule", "filter") and isinstance(value, str) and value.strip():
            yield from (("workload", row.name) for row in search(value))
        else:
            yield from _named(value)


def check_scopes(scopes: Mapping[str, Scope]) -> None:
    """Raises BadValue for a scope of a site or plan that there is not."""
    # By its name: plans know access, and access does not know plans.
    plans = set(apps.get_model("plans", "PlanRow").objects.values_list("code", flat=True))
    sites = set(Site.objects.values_list("code", flat=True))
    for scope in scopes.values():
        for what, named, known in (("site", scope.sites, sites), ("plan", scope.plans, plans)):
            unknown = sorted(set(named) - known)
            if unknown:
                raise BadValue(
                    f"There is no {what} {unknown[0][:40]!r}.",
                    f"Use one of: {', '.join(sorted(known))}.", field="scopes",
                )  # fmt: skip
