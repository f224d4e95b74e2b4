"""``check_runs``: rebuilds every run from its log, checks the chain, and says where the rows differ."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError

from maestoso.server.runs.log import check_projection
from maestoso.server.runs.models import Run


class Command(BaseCommand):
    """Ends with an error when anything differs."""

    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        """One line per run."""
        bad = 0
        for run in Run.objects.order_by("pk"):
            wrong = check_projection(run)
            bad += bool(wrong)
            self.stdout.write(f"run {run.pk}: {'as its log says' if not wrong else ' '.join(wrong)}")
        if bad:
            raise CommandError(f"{bad} runs differ from their logs.")
