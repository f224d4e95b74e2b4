"""Django's view of this feature."""

from django.apps import AppConfig


class PlansConfig(AppConfig):
    """Recovery plans, their versions and what they would do."""

    name = "maestoso.server.plans"
    label = "plans"
