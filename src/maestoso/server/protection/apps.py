"""Django's view of this feature."""

from django.apps import AppConfig


class ProtectionConfig(AppConfig):
    """Groups and their points."""

    name = "maestoso.server.protection"
    label = "protection"
