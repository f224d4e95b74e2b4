"""Django's view of this feature."""

from django.apps import AppConfig


class RunsConfig(AppConfig):
    """Runs, their log and their controls."""

    name = "maestoso.server.runs"
    label = "runs"

    def ready(self) -> None:
        """Others ask who uses what."""
        from maestoso.server.runs import uses  # noqa: F401
