"""Once another machine has taken over, nothing is changed here: refused before any view is asked."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.utils.deprecation import MiddlewareMixin

from maestoso.server.reign import services

READS = ("GET", "HEAD", "OPTIONS")
SIGNING_IN = "/api/v1/session"


class ReadOnly(MiddlewareMixin):
    """People may sign in, and look."""

    def process_request(self, request: HttpRequest) -> HttpResponseBase | None:
        """Every change but signing in and out."""
        if request.method in READS or request.path.startswith(SIGNING_IN):
            return None
        try:
            services.check()
        except services.ReignPast as past:
            body = {
                "type": "about:blank", "title": past.code, "status": past.status, "code": past.code,
                "detail": past.sentence, "remedy": past.remedy,
            }  # fmt: skip
            return JsonResponse(body, status=past.status, content_type="application/problem+json")
        return None
