"""Django's view of this feature."""

from django.apps import AppConfig


class ReignConfig(AppConfig):
    """Which reign this is."""

    name = "maestoso.server.reign"
    label = "reign"
