"""Django's view of this feature."""

from django.apps import AppConfig


class ScriptsConfig(AppConfig):
    """Scripts that plans run, and secrets."""

    name = "maestoso.server.scripts"
    label = "scripts"
