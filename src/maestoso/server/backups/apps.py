"""Django's view of this feature."""

from django.apps import AppConfig


class BackupsConfig(AppConfig):
    """Which backups there are."""

    name = "maestoso.server.backups"
    label = "backups"
