"""The Django app of the audit trail."""

from django.apps import AppConfig


class AuditConfig(AppConfig):
    """Its label is ``audit``."""

    name = "maestoso.server.audit"
    label = "audit"

    def ready(self) -> None:
        """Listen to what is saved while a request changes things."""
        from maestoso.server.audit import changes

        changes.listen()
