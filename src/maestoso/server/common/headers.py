"""Response headers that keep a page from running what is not ours."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from django.http import HttpRequest, HttpResponseBase
from django.utils.decorators import sync_and_async_middleware

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "font-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'"
)
"""No inline script. Inline styles are allowed: the widget library positions its pop-ups with them."""


@sync_and_async_middleware
def ContentSecurity(
    get_response: Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]],
):
    """Adds the content security policy to every reply."""
    from asgiref.sync import iscoroutinefunction

    if iscoroutinefunction(get_response):

        async def middleware(request: HttpRequest) -> HttpResponseBase:
            response = await get_response(request)
            response["Content-Security-Policy"] = POLICY
            return response

    else:

        def middleware(request: HttpRequest) -> HttpResponseBase:
            response = get_response(request)
            response["Content-Security-Policy"] = POLICY
            return response

    return middleware
