"""Django's view of this feature."""

from django.apps import AppConfig


class ApprovalsConfig(AppConfig):
    """Second signatures."""

    name = "maestoso.server.approvals"
    label = "approvals"
