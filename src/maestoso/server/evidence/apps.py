"""The Django app of evidence."""

from django.apps import AppConfig


class EvidenceConfig(AppConfig):
    """Its label is ``evidence``."""

    name = "maestoso.server.evidence"
    label = "evidence"

    def ready(self) -> None:
        """Workers know its jobs."""
        from maestoso.server.evidence import jobs as jobs
