"""The Django app of the outbox."""

from django.apps import AppConfig


class OutboxConfig(AppConfig):
    """Its label is ``outbox``."""

    name = "maestoso.server.outbox"
    label = "outbox"
