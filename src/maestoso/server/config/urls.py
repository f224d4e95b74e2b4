"""Addresses: the API under /api/v1/, the built front end everywhere else."""

from django.urls import include, path, re_path
from drf_spectacular.views import SpectacularJSONAPIView

from maestoso.server.common.front_end import index, no_such_address
from maestoso.server.drills.views import feed
from maestoso.server.monitoring.views import Metrics, healthz, readyz

urlpatterns = [
    path("api/v1/", include("maestoso.server.access.urls")),
    path("api/v1/", include("maestoso.server.organisation.urls")),
    path("api/v1/", include("maestoso.server.backups.urls")),
    path("api/v1/", include("maestoso.server.reign.urls")),
    path("api/v1/", include("maestoso.server.witness.urls")),
    path("api/v1/", include("maestoso.server.jobs.urls")),
    path("api/v1/", include("maestoso.server.estate.urls")),
    path("api/v1/", include("maestoso.server.outbox.urls")),
    path("api/v1/", include("maestoso.server.plans.urls")),
    path("api/v1/", include("maestoso.server.protection.urls")),
    path("api/v1/", include("maestoso.server.crosswalks.urls")),
    path("api/v1/", include("maestoso.server.scripts.urls")),
    path("api/v1/", include("maestoso.server.names.urls")),
    path("api/v1/", include("maestoso.server.declared.urls")),
    path("api/v1/", include("maestoso.server.runs.urls")),
    path("api/v1/", include("maestoso.server.evidence.urls")),
    path("api/v1/", include("maestoso.server.readiness.urls")),
    path("api/v1/", include("maestoso.server.drills.urls")),
    path("api/v1/", include("maestoso.server.board.urls")),
    path("api/v1/", include("maestoso.server.messages.urls")),
    path("api/v1/", include("maestoso.server.audit.urls")),
    path("api/v1/", include("maestoso.server.practice_lab.urls")),
    path("api/v1/openapi.json", SpectacularJSONAPIView.as_view(), name="openapi"),
    path("healthz", healthz, name="healthz"),
    path("readyz", readyz, name="readyz"),
    path("metrics", Metrics.as_view(), name="metrics"),
    path("calendar/<str:token>.ics", feed, name="calendar-feed"),
    # Whatever follows: a dot would not match a line feed.
    re_path(r"^api/", no_such_address),
    re_path(r"^(?!assets/)", index),
]
