"""Django's view of this feature."""

from django.apps import AppConfig


class CrosswalksConfig(AppConfig):
    """Tables of equivalents between sites."""

    name = "maestoso.server.crosswalks"
    label = "crosswalks"

    def ready(self) -> None:
        """Crosswalks are a part of every snapshot of the estate."""
        from maestoso.server.crosswalks import lands, services, uses  # noqa: F401
