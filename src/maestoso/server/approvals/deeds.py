"""What wants second signatures beside the starts of runs: by address and method, asked before every view."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from django.apps import apps
from django.http import HttpRequest, HttpResponseBase
from django.urls import Resolver404, resolve
from django.utils.deprecation import MiddlewareMixin
from rest_framework.permissions import BasePermission
from rest_framework.request import Request

from maestoso.core.errors import BadValue, NotFound
from maestoso.core.people.approvals import ApprovalRule
from maestoso.engine.clock import SystemClock
from maestoso.server.access.may import address_of, require
from maestoso.server.access.reach import check_reach
from maestoso.server.access.table import TABLE
from maestoso.server.approvals import services
from maestoso.server.approvals.services import Deed
from maestoso.server.audit.words import filled

CLOCK = SystemClock()
HEADER = "Maestoso-Approval"
LARGEST_BODY = 500_000
ROOT = "/api/v1/"
DEEDS_BY_ADDRESS: dict[tuple[str, str], tuple[str, str]] = {
    ("runs/{id}/controls", "POST"): ("commit", "commit run {pk}"),
    ("plans", "POST"): ("publish", "make the plan {body.plan.code}"),
    ("plans/{code}", "PUT"): ("publish", "save a version of the plan {code}"),
    ("groups/{code}", "DELETE"): ("end-protection", "end the protection of {code}"),
    ("plans/{code}", "DELETE"): ("retire", "retire the plan {code}"),
    ("workloads/{name}", "DELETE"): ("retire", "retire the workload {name}"),
    ("sites/{code}", "DELETE"): ("retire", "retire the site {code}"),
    ("links/{one}/{other}", "DELETE"): ("retire", "retire the link {one} to {other}"),
    ("crosswalks/{source}/{target}", "DELETE"): ("retire", "retire the crosswalk {source} to {target}"),
    ("scripts/{name}", "DELETE"): ("retire", "remove the script {name}"),
    ("secrets/{name}", "DELETE"): ("retire", "remove the secret {name}"),
    ("people", "POST"): ("people", "invite {body.name}"),
    ("people/{name}", "PUT"): ("people", "change the person {name}"),
    ("people/{name}/invitation", "POST"): ("people", "make a link with which {name} chooses a password"),
    ("people/{name}/second-factor", "DELETE"): ("people", "remove the second factor of {name}"),
    ("roles/{code}", "PUT"): ("people", "change what the role {code} wants at sign-in"),
    ("roles", "POST"): ("people", "make the role {body.name}"),
    ("roles/{code}/definition", "PUT"): ("people", "change what the role {code} may"),
    ("approval-rules", "PUT"): ("people", "change what needs an approval"),
    ("identity-provider", "PUT"): ("people", "change the identity provider"),
}
"""What an address and method do: the deed that rules speak of, and in words."""


class Signed(BasePermission):
    """Asked behind the table of permissions: whether a deed has the signatures that the rules want."""

    def has_permission(self, request: Request, view: Any) -> bool:
        """Raises DeedNeedsApproval, NotFound, BadValue."""
        match = request.resolver_match
        assert match is not None
        address = address_of(match.route.removeprefix(ROOT[1:]))
        if (address, request.method) not in DEEDS_BY_ADDRESS:
            return True
        body = request.data if request.body else None
        rule, words, _ = _wanted(address, str(request.method), match.kwargs, body)
        if rule is None:
            return True
        given = request.headers.get(HEADER, "")
        if not given:
            raise services.refuse_deed(words, rule, request.user.get_username())
        if not given.isascii() or not given.isdigit() or len(given) > 9:
            raise BadValue(f"{HEADER} is {given[:20]!r}.", "Give the number of the request.", field=HEADER)
        path = request.path.removeprefix(ROOT)
        deed = Deed(
            method=str(request.method), path=path, body=_text(body),
            based_on=request.headers.get("If-Match", ""),
        )  # fmt: skip
        services.use_for_deed(int(given), deed, request.user.get_username(), CLOCK.now())
        request._request.maestoso_approval = int(given)  # type: ignore[attr-defined]
        return True


class GiveBack(MiddlewareMixin):
    """An approval that was used for what then was refused is good for another try."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
        """Give it back where nothing came of it."""
        used = getattr(request, "maestoso_approval", None)
        if used is not None and response.status_code >= 400:
            services.give_back(used)
        return response


def read_deed(
    request: Request, method: str, path: str, body: str, based_on: str
) -> tuple[ApprovalRule | None, Deed, str, str]:
    """What somebody asks to do: the rule that it must keep (None: it needs nobody), what it is in words, and
    the plan that it is about (empty: none).

    Raises NotPermitted for what they may not do at all, BadValue, NotFound.
    """
    if len(body) > LARGEST_BODY:
        raise BadValue("body is very large.", f"Send at most {LARGEST_BODY} characters.", field="body.body")
    try:
        sent = json.loads(body) if body else None
        match = resolve(ROOT + path)
    except ValueError as error:
        raise BadValue("body is no JSON.", "Send what would be sent.", field="body.body") from error
    except Resolver404 as error:
        raise NotFound(f"There is no address {path[:60]!r}.", "See the contract of the API.") from error
    address = address_of(match.route.removeprefix(ROOT[1:]))
    if (address, method) not in DEEDS_BY_ADDRESS:
        raise NotFound(f"{method[:10]} {path[:60]} needs nobody's approval.", "Do it.")
    require(request, TABLE[address][method])
    check_reach(request, TABLE[address][method], method, address, match.kwargs, lambda: sent)
    rule, words, plan = _wanted(address, method, match.kwargs, sent)
    return rule, Deed(method=method, path=path, body=_text(sent), based_on=based_on), words, plan


def _wanted(
    address: str, method: str, arguments: Mapping[str, Any], body: Any
) -> tuple[ApprovalRule | None, str, str]:
    """The rule that a deed must keep, None where it needs nobody's signature; what it is in words; and the
    plan that it is about, empty for none."""
    kind, words = DEEDS_BY_ADDRESS[(address, method)]
    sent = body if isinstance(body, dict) else {}
    plan = str(arguments.get("code", "")) if address.startswith("plans/") else ""
    if address == "plans" and isinstance(sent.get("plan"), dict):
        # A rule of a plan holds also for who retires it and makes it anew.
        plan = str(sent["plan"].get("code", ""))[:12]
    if kind == "commit":
        if sent.get("kind") != "commit":
            return None, "", ""
        # By its name: runs know approvals, and approvals do not know runs.
        run = apps.get_model("runs", "Run").objects.filter(pk=arguments["pk"])
        plan = run.values_list("plan_code", flat=True).first() or ""
    return services.wanted_for(plan, kind), filled(words, arguments, body), plan


def _text(body: Any) -> str:
    """JSON in the one way in which deeds are compared."""
    return "" if body is None else json.dumps(body, sort_keys=True, ensure_ascii=False)


def details(deed: Deed) -> tuple[str, ...]:
    """What is sent, line by line."""
    return tuple(_lines(json.loads(deed.body), "")) if deed.body else ()


def _lines(value: Any, at: str) -> list[str]:
    if isinstance(value, dict):
        return [line for key, inner in value.items() for line in _lines(inner, f"{at} {key}".strip())]
    if isinstance(value, list) and any(isinstance(one, dict | list) for one in value):
        return [line for number, inner in enumerate(value) for line in _lines(inner, f"{at} {number + 1}")]
    said = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
    return [f"{re.sub('_', ' ', at)}: {said}"]
