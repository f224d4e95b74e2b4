"""Django's view of this feature."""

from django.apps import AppConfig


class EstateConfig(AppConfig):
    """Sites and what they have."""

    name = "maestoso.server.estate"
    label = "estate"
