"""Django's view of this feature."""

from django.apps import AppConfig


class ProtectionConfig(AppConfig):
    """Groups and their points."""

    name = "maestoso.server.protection"
    label = "protection"

    def ready(self) -> None:
        """Groups are a part of every snapshot of the estate, and go to sites with their secrets."""
        from maestoso.server.protection import reach, services, uses  # noqa: F401
