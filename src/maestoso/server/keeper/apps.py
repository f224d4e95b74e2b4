"""The Django app of the keeper."""

from django.apps import AppConfig


class KeeperConfig(AppConfig):
    """Its label is ``keeper``."""

    name = "maestoso.server.keeper"
    label = "keeper"
