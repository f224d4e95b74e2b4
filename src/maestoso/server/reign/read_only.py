"""Nothing is changed on a standby, or once another machine has taken over: no view is asked."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.utils.deprecation import MiddlewareMixin

from maestoso.core.errors import DomainError
from maestoso.server.audit.words import LOOKS_ONLY
from maestoso.server.reign import following, services

READS = ("GET", "HEAD", "OPTIONS")
SIGNING_IN = "/api/v1/session"
ON_A_STANDBY = LOOKS_ONLY | {"session", "takeover"}
"""Names of addresses that are sent something there as well."""


class ReadOnly(MiddlewareMixin):
    """People may sign in, and look."""

    def process_view(
        self, request: HttpRequest, view: Callable[..., HttpResponseBase], args: Any, kwargs: Any
    ) -> HttpResponseBase | None:  # fmt: skip
        """Every change but signing in and out."""
        if request.method in READS:
            return None
        match = request.resolver_match
        name = match.url_name if match is not None else ""
        try:
            if not settings.IS_STANDBY or name not in ON_A_STANDBY:
                following.check()
                if not request.path.startswith(SIGNING_IN):
                    services.check()
        except DomainError as error:
            body = {
                "type": "about:blank", "title": error.code, "status": error.status, "code": error.code,
                "detail": error.sentence, "remedy": error.remedy,
            }  # fmt: skip
            return JsonResponse(body, status=error.status, content_type="application/problem+json")
        return None
