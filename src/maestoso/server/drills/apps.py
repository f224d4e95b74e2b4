"""The Django app of drills."""

from django.apps import AppConfig


class DrillsConfig(AppConfig):
    """Its label is ``drills``."""

    name = "maestoso.server.drills"
    label = "drills"
