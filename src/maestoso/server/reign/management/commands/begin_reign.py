"""``begin_reign``: from now on this installation conducts, and whoever did before is refused."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand

from maestoso.server.reign.services import begin


class Command(BaseCommand):
    """For a standby that takes over."""

    help = __doc__ or ""
    requires_system_checks = ()

    def handle(self, *args: Any, **options: Any) -> None:
        """One row."""
        self.stdout.write(f"Reign {begin()} began.")
