"""``check_runs [--journals]``: rebuilds every run from its log, checks the chain, and says where rows differ.

With ``--journals`` the sites are asked what they did, and every promise of the run is held against that.
"""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.core.runs.journal import Effect, broken_promises
from maestoso.core.runs.progress import overhead
from maestoso.core.runs.state import fold
from maestoso.server.estate.agents import LARGE_PATIENCE_S, ask
from maestoso.server.estate.models import Site
from maestoso.server.evidence.models import Seal
from maestoso.server.evidence.sealing import check
from maestoso.server.runs.log import check_projection, read_log, run_name
from maestoso.server.runs.models import Run


class Command(BaseCommand):
    """Ends with an error when anything differs."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """One switch."""
        parser.add_argument("--journals", action="store_true", help="hold runs against the sites' journals")

    def handle(self, *args: Any, **options: Any) -> None:
        """One line per run."""
        bad = 0
        effects = _effects() if options["journals"] else []
        for run in Run.objects.filter(removed_at=None).order_by("pk"):
            wrong = check_projection(run)
            seal = Seal.objects.filter(run=run).first()
            if not wrong and seal is not None and not (found := check(seal, read_log(run.pk))).holds:
                wrong = [found.sentence]
            if not wrong and options["journals"]:
                wrong = list(broken_promises(run_name(run.pk), read_log(run.pk), effects))
            bad += bool(wrong)
            spent = overhead(fold(read_log(run.pk))) if not wrong else None
            extra = f", machine time {spent:.3f} of its own schedule" if spent is not None else ""
            self.stdout.write(f"run {run.pk}: {'as its log says' if not wrong else ' '.join(wrong)}{extra}")
        if bad:
            raise CommandError(f"{bad} runs are not as they should be.")


def _effects() -> list[Effect]:
    """What every site wrote down. Raises CommandError where one says nothing."""
    found = []
    for site in Site.objects.all():
        try:
            entries = ask(site, lambda agent: agent.journal(), LARGE_PATIENCE_S)
        except (SiteUnreachable, SiteRefused) as error:
            raise CommandError(f"{site.name} does not give its journal: {error}") from error
        found += [
            Effect(
                site=site.code, **{name: entry[name] for name in ("at", "key", "verb", "subject", "effect")}
            )
            for entry in entries
        ]
    return found
