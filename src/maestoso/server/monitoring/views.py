"""Addresses for monitors: outside of the API, at the root, where they look for them."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.views import APIView

from maestoso.engine.clock import SystemClock
from maestoso.server.monitoring import health, metrics

CLOCK = SystemClock()
PLAIN = "text/plain; charset=utf-8"


def healthz(request: HttpRequest) -> HttpResponse:
    """The web process is alive: it answers, and asks nobody."""
    return HttpResponse("ok\n", content_type=PLAIN)


def readyz(request: HttpRequest) -> HttpResponse:
    """Whether it can be worked with. Why not is said to whoever asks: it names nothing of the estate."""
    found = health.reasons()
    said = "".join(f"{one}\n" for one in found or ["ok"])
    return HttpResponse(said, status=503 if found else 200, content_type=PLAIN)


class Metrics(APIView):
    """Figures name groups, plans and sites: they are for who may see everything, best by a token."""

    @extend_schema(exclude=True)
    def get(self, request: Request) -> HttpResponse:
        """All of them, in OpenMetrics."""
        return HttpResponse(metrics.text(CLOCK), content_type=metrics.MEDIA)
