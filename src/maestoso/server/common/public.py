"""Where people find the application."""

from django.conf import settings
from django.http import HttpRequest
from rest_framework.request import Request


def origin(request: HttpRequest | Request) -> str:
    """Scheme, host and port of the public address; where none is set, of the request."""
    return str(settings.PUBLIC_ORIGIN or f"{request.scheme}://{request.get_host()}")
