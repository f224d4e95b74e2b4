"""``check_integrity [--journals]``: whether runs, seals, notes, register and audit trail are what was
written.

Every run is rebuilt from its log, and every signature, chain and count is checked, each in one snapshot, so
that what goes on meanwhile is no trouble. The exit status is 1 where anything differs.

With ``--journals`` the sites are asked what they did, and every promise of the run is held against that.
"""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.core.runs.journal import Effect, broken_promises
from maestoso.core.runs.progress import overhead
from maestoso.core.runs.state import fold
from maestoso.server.common.snapshot import one_moment
from maestoso.server.estate.agents import LARGE_PATIENCE_S, ask
from maestoso.server.estate.models import Site
from maestoso.server.evidence.integrity import register_troubles, run_troubles, trail_troubles
from maestoso.server.runs.events import read_log, run_name
from maestoso.server.runs.models import Run

AS_WRITTEN = "as it was written"


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
        forgetful = set(Site.objects.exclude(forgot_at=None).values_list("code", flat=True))
        for pk in Run.objects.order_by("pk").values_list("pk", flat=True):
            with one_moment():
                run = Run.objects.get(pk=pk)
                wrong = list(run_troubles(run))
                events = read_log(pk) if run.removed_at is None else []
            if not wrong and options["journals"] and events:
                wrong = list(broken_promises(run_name(pk), events, effects, forgetful))
            bad += len(wrong)
            spent = overhead(fold(events)) if not wrong and events else None
            extra = f", machine time {spent:.3f} of its own schedule" if spent is not None else ""
            self.stdout.write(f"run {pk}: {' '.join(wrong) or AS_WRITTEN}{extra}")
        for what, troubles in (("register of runs", register_troubles), ("audit trail", trail_troubles)):
            with one_moment():
                wrong = list(troubles())
            bad += len(wrong)
            self.stdout.write(f"{what}: {' '.join(wrong) or AS_WRITTEN}")
        if bad:
            raise CommandError(f"Not everything is as it was written; {bad} said above.")


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
