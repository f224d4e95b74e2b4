"""``check_runs``: rebuilds every run from its log, checks the chain, and says where the rows differ."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError

from maestoso.core.runs.progress import overhead
from maestoso.core.runs.state import fold
from maestoso.server.runs.log import check_projection, read_log
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
            spent = overhead(fold(read_log(run.pk))) if not wrong else None
            extra = f", machine time {spent:.3f} of its own schedule" if spent is not None else ""
            self.stdout.write(f"run {run.pk}: {'as its log says' if not wrong else ' '.join(wrong)}{extra}")
        if bad:
            raise CommandError(f"{bad} runs differ from their logs.")
