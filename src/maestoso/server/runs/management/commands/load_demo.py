"""``load_demo``: loads the demo scenario once; says so and does nothing when it is there."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand
from django.db import transaction

from maestoso.engine.clock import SystemClock
from maestoso.practice.scenario import Scenario
from maestoso.server.config.settings import OPTIONS, SECRETS
from maestoso.server.runs import demo


class Command(BaseCommand):
    """Loads the scenario in one transaction: all of it or nothing."""

    help = __doc__ or ""

    def handle(self, *args: Any, **options: Any) -> None:
        """The practice sites must be up."""
        if demo.is_loaded():
            self.stdout.write("The demo data is there.")
            return
        scenario = Scenario(OPTIONS.scenario)
        urls = {
            code: f"http://127.0.0.1:{OPTIONS.site_port + index}"
            for index, code in enumerate(scenario.site_codes())
        }
        with transaction.atomic():
            demo.load(
                scenario,
                agent_urls=urls,
                token=SECRETS.site_token,
                clock=SystemClock(),
                say=self.stdout.write,
            )
