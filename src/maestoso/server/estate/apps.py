"""Django's view of this feature."""

from django.apps import AppConfig


class EstateConfig(AppConfig):
    """Sites and what they have."""

    name = "maestoso.server.estate"
    label = "estate"

    def ready(self) -> None:
        """Workers know its jobs."""
        from maestoso.server.estate import exports as exports
        from maestoso.server.estate import imports as imports
