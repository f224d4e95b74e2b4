"""The Django app of readiness: it has no records, but jobs."""

from django.apps import AppConfig


class ReadinessConfig(AppConfig):
    """Its label is ``readiness``."""

    name = "maestoso.server.readiness"
    label = "readiness"

    def ready(self) -> None:
        """Workers know its jobs."""
        from maestoso.server.readiness import jobs as jobs
