"""The Django app of the board."""

from django.apps import AppConfig


class BoardConfig(AppConfig):
    """Its label is ``board``."""

    name = "maestoso.server.board"
    label = "board"
