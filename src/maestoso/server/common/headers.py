"""What every request and reply passes.

Headers that keep a page from running what is not ours, plain addresses.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from urllib.parse import unquote

from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponseBase, JsonResponse
from django.utils.decorators import sync_and_async_middleware
from django.utils.deprecation import MiddlewareMixin

from maestoso.core.files import TURNS_ROUND

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"
)
"""No inline script. Inline styles are allowed: the widget library positions its pop-ups with them."""


@sync_and_async_middleware
def ContentSecurity(
    get_response: Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]],
) -> Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]]:
    """Adds the content security policy to every reply."""

    async def later(request: HttpRequest, response: Awaitable[HttpResponseBase]) -> HttpResponseBase:
        return _with_headers(request, await response)

    def middleware(request: HttpRequest) -> HttpResponseBase | Awaitable[HttpResponseBase]:
        response = get_response(request)
        if isinstance(response, HttpResponseBase):
            return _with_headers(request, response)
        return later(request, response)

    return markcoroutinefunction(middleware) if iscoroutinefunction(get_response) else middleware


def _with_headers(request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
    response["Content-Security-Policy"] = POLICY
    if request.path.startswith(("/api/", "/calendar/")):
        # What an API says is for who asked, now; no cache on the way or on the disk keeps it.
        response["Cache-Control"] = "no-store"
    return response


class PlainAddress(MiddlewareMixin):
    """Refuses addresses that would be shown otherwise than they are written."""

    def process_request(self, request: HttpRequest) -> HttpResponseBase | None:
        """Path and query, decoded."""
        text = f"{request.path}?{unquote(request.META.get('QUERY_STRING', ''))}"
        found = TURNS_ROUND.search(text)
        if found is None:
            return None
        detail = f"The address holds U+{ord(found[0]):04X}, which turns round what stands beside it."
        body = {
            "type": "about:blank",
            "title": "bad-value",
            "status": 400,
            "code": "bad-value",
            "detail": detail,
        }
        return JsonResponse(body, status=400, content_type="application/problem+json")
