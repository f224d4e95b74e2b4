"""Django's view of this feature."""

from django.apps import AppConfig


class PracticeLabConfig(AppConfig):
    """The practice lab, and the demo data."""

    name = "maestoso.server.practice_lab"
    label = "practice_lab"
