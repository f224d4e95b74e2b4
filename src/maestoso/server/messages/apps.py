"""Django's view of this feature."""

from django.apps import AppConfig


class MessagesConfig(AppConfig):
    """Messages to people and programs."""

    name = "maestoso.server.messages"
    label = "messages"

    def ready(self) -> None:
        """What other features have mailed is heard of."""
        from maestoso.server.messages import links  # noqa: F401
