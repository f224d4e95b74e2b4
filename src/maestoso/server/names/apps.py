"""Django's view of this feature."""

from django.apps import AppConfig


class NamesConfig(AppConfig):
    """Zones and their servers."""

    name = "maestoso.server.names"
    label = "names"

    def ready(self) -> None:
        """What goes to name servers goes with their keys, in every process."""
        from maestoso.server.names import services  # noqa: F401
