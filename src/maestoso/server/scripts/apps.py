"""Django's view of this feature."""

from django.apps import AppConfig


class ScriptsConfig(AppConfig):
    """Scripts that plans run, and secrets."""

    name = "maestoso.server.scripts"
    label = "scripts"

    def ready(self) -> None:
        """What it sends to sites goes with its secrets, in every process."""
        from maestoso.server.scripts import services  # noqa: F401
