"""``run_workers``: the process whose workers do jobs. Any number may run, on any number of machines."""

from __future__ import annotations

import warnings
from typing import Any

from celery.exceptions import SecurityWarning  # type: ignore[import-untyped]
from django.core.management.base import BaseCommand

from maestoso.server.config.settings import OPTIONS
from maestoso.server.jobs.queue import app, prepare


class Command(BaseCommand):
    """Runs until it is told to stop."""

    help = __doc__ or ""
    # They load every view, which workers do not need.
    requires_system_checks = ()

    def handle(self, *args: Any, **options: Any) -> None:
        """Start as many workers as the settings say; they need not know of one another."""
        prepare()
        # It warns of messages that hold programs, where root runs it; these hold numbers.
        warnings.filterwarnings("ignore", category=SecurityWarning)
        app.worker_main(
            [
                "--quiet", "worker", "--pool", "prefork", "--concurrency", str(OPTIONS.workers),
                "--loglevel", "WARNING", "--without-gossip", "--without-mingle", "--without-heartbeat",
            ]
        )  # fmt: skip
