"""Django's view of this feature."""

from django.apps import AppConfig


class MessagesConfig(AppConfig):
    """Messages to people and programs."""

    name = "maestoso.server.messages"
    label = "messages"
