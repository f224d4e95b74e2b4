"""Django's view of this feature."""

from django.apps import AppConfig


class AccessConfig(AppConfig):
    """Who may come in."""

    name = "maestoso.server.access"
    label = "access"

    def ready(self) -> None:
        """Every session knows when it began; the contract knows tokens."""
        from django.contrib.auth.signals import user_logged_in

        from maestoso.server.access.sessions import begin, note_last
        from maestoso.server.common import contract  # noqa: F401

        user_logged_in.connect(begin, dispatch_uid="session-began")
        # Django's own would write on a standby, too.
        user_logged_in.disconnect(dispatch_uid="update_last_login")
        user_logged_in.connect(note_last, dispatch_uid="last-sign-in")
