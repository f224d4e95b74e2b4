"""Django's view of this feature."""

from django.apps import AppConfig


class RunsConfig(AppConfig):
    """Runs, their log and their controls."""

    name = "maestoso.server.runs"
    label = "runs"
