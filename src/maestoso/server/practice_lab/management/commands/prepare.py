"""``prepare [--demo] [--checked]``: brings the tables up to date, and loads the demo scenario once.

Where the tables cannot be brought up to date, or with ``--checked`` the records are not what was written
any more after that, they are put back as they were.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import DatabaseError, transaction

from maestoso.engine.clock import SystemClock
from maestoso.practice.scenario import Scenario
from maestoso.practice.scenario_files import site_codes
from maestoso.server.backups.archive import BackupFailed
from maestoso.server.backups.upgrade import way_back
from maestoso.server.config.settings import OPTIONS, SECRETS
from maestoso.server.estate.services import move_practice_sites
from maestoso.server.evidence.register import begin_counting
from maestoso.server.names.services import move_practice_zones
from maestoso.server.practice_lab import demo
from maestoso.server.reign.services import OtherInstallation, belongs_here


class Command(BaseCommand):
    """What a start needs of the database, in one process."""

    help = __doc__ or ""
    requires_system_checks = ()  # they load every view, and take longer than a look at the tables

    def add_arguments(self, parser: CommandParser) -> None:
        """Two switches."""
        parser.add_argument("--demo", action="store_true", help="load the demo data too")
        parser.add_argument(
            "--checked", action="store_true", help="hold the records against their seals, too"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        """Tables, then the demo data: all of it or nothing."""
        try:
            # Of another installation not even the tables are touched; where there are none yet, nobody knows.
            with suppress(DatabaseError):
                belongs_here()
            with way_back(of_value=not options["demo"]) as changed:
                call_command("migrate", interactive=False, stdout=self.stdout)
                belongs_here()
                begin_counting(SystemClock().now())
                if changed and options["checked"]:
                    call_command("check_integrity", stdout=self.stdout)
        except (BackupFailed, OtherInstallation) as error:
            raise CommandError(f"{error.sentence} {error.remedy}") from error
        urls = {}
        if options["demo"]:
            codes = site_codes(OPTIONS.scenario)
            urls = {code: f"http://127.0.0.1:{OPTIONS.site_port + at}" for at, code in enumerate(codes)}
        move_practice_sites(urls)
        if options["demo"]:
            move_practice_zones(demo.zone_servers())
        if options["demo"] and not demo.is_loaded():
            with transaction.atomic():
                self._load(urls)

    def _load(self, urls: dict[str, str]) -> None:
        scenario = Scenario(OPTIONS.scenario)
        demo.load(
            scenario,
            agent_urls=urls,
            token=SECRETS.site_token,
            clock=SystemClock(),
            say=self.stdout.write,
        )
        demo.load_people(scenario, SECRETS.admin_password, SystemClock().now())
