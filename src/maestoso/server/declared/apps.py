"""Django's view of this feature."""

from django.apps import AppConfig


class DeclaredConfig(AppConfig):
    """Declared outages."""

    name = "maestoso.server.declared"
    label = "declared"
