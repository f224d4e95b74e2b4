"""Django's view of this feature."""

from django.apps import AppConfig


class CrosswalksConfig(AppConfig):
    """Tables of equivalents between sites."""

    name = "maestoso.server.crosswalks"
    label = "crosswalks"
