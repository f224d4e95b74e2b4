"""Django's view of this feature."""

from django.apps import AppConfig


class PlansConfig(AppConfig):
    """Recovery plans and their versions."""

    name = "maestoso.server.plans"
    label = "plans"

    def ready(self) -> None:
        """Others ask who uses what."""
        from maestoso.server.plans import uses  # noqa: F401
