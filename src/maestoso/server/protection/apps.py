"""Django's view of this feature."""

from django.apps import AppConfig


class ProtectionConfig(AppConfig):
    """Groups and their points."""

    name = "maestoso.server.protection"
    label = "protection"

    def ready(self) -> None:
        """What it sends to sites goes with its secrets, in every process."""
        from maestoso.server.protection import services  # noqa: F401
