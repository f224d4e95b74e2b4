"""Compressed answers, but for those that hold something secret.

Who can make a browser ask, and sees how long the answers are, could guess a secret in a compressed one piece
by piece (BREACH). Django pads what it compresses by chance; answers that give a secret away are left alone.
"""

from __future__ import annotations

from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django.middleware.gzip import GZipMiddleware

COMPRESSED = ("application/json", "application/problem+json", "application/jsonl", "text/")
SECRET = ("/api/v1/session", "/api/v1/drills/feed", "/api/v1/secrets")


class Compressed(GZipMiddleware):
    """Texts only: pictures, archives and PDFs are compressed already."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> HttpResponseBase:
        """Compress it where that is wanted, allowed, and worth it."""
        kind = response.headers.get("Content-Type", "")
        if request.path.startswith(SECRET) or not kind.startswith(COMPRESSED):
            return response
        return super().process_response(request, response)
