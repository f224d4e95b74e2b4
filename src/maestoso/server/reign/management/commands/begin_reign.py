"""``begin_reign``: from now on this installation conducts, and whoever did before is refused."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from maestoso.server.reign.services import begin


class Command(BaseCommand):
    """For a standby that takes over, and for what a backup brought back."""

    help = __doc__ or ""
    requires_system_checks = ()

    def add_arguments(self, parser: CommandParser) -> None:
        """What the trail says, and by whom it was done."""
        parser.add_argument("--did", required=True)
        parser.add_argument("--by", default="")

    def handle(self, *args: Any, **options: Any) -> None:
        """One row, and an entry in the trail."""
        self.stdout.write(f"Reign {begin(options['did'], options['by'])} began.")
