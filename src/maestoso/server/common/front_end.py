"""The built front end: one page for every address that is not the API's."""

from __future__ import annotations

from django.conf import settings
from django.http import HttpRequest, HttpResponse, JsonResponse


def index(request: HttpRequest) -> HttpResponse:
    """The page that the router of the front end takes over."""
    file = settings.WEB_DIST / "index.html"
    if not file.is_file():
        return HttpResponse(
            "The front end is not built. Run ./maestoso demo, which builds it.",
            status=503,
            content_type="text/plain; charset=utf-8",
        )
    response = HttpResponse(file.read_bytes(), content_type="text/html; charset=utf-8")
    response["Cache-Control"] = "no-cache"
    return response


def no_such_address(request: HttpRequest) -> HttpResponse:
    """Unknown addresses of the API answer as the API does."""
    problem = {
        "type": "about:blank",
        "title": "not-found",
        "status": 404,
        "code": "not-found",
        "detail": f"The API has no address {request.path}. See /api/v1/openapi.json for those it has.",
    }
    return JsonResponse(problem, status=404, content_type="application/problem+json")
