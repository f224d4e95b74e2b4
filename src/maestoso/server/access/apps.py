"""Django's view of this feature."""

from django.apps import AppConfig


class AccessConfig(AppConfig):
    """Who may come in."""

    name = "maestoso.server.access"
    label = "access"
