"""``back_up FOLDER [--by NAME]``: make a backup. ``back_up --try FILE``: see whether one could be restored.

What opens or locks it is read from the first line of the input: a passphrase, or with ``--key FILE`` nothing.
"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from maestoso.engine.clock import SystemClock
from maestoso.server.backups.archive import BackupFailed, Lock
from maestoso.server.backups.services import make, try_out


class Command(BaseCommand):
    """Ends with an error where it did not work, in one sentence."""

    help = __doc__ or ""
    requires_system_checks = ()

    def add_arguments(self, parser: CommandParser) -> None:
        """Where to, or what to try."""
        parser.add_argument("place")
        parser.add_argument("--try", action="store_true", dest="tried")
        parser.add_argument("--recipient", default="", help="a public key; otherwise a passphrase is read")
        parser.add_argument(
            "--key", default="", help="the file of a private key; otherwise a passphrase is read"
        )
        parser.add_argument("--by", default="somebody on the machine")

    def handle(self, *args: Any, **options: Any) -> None:
        """One or the other."""
        now, place = SystemClock().now(), Path(options["place"])
        passphrase = "" if options["recipient"] or options["key"] else sys.stdin.readline().rstrip("\n")
        try:
            if options["tried"]:
                key = Path(options["key"]).read_text(encoding="utf-8") if options["key"] else ""
                made_at, wrong = try_out(place, passphrase=passphrase, key=key, now=now)
                if wrong:
                    raise BackupFailed(f"{place} opens, but: {' '.join(wrong)}", "Take another backup.")
                self.stdout.write(f"{place} of {made_at} opens, loads, and is as it was written.")
            else:
                lock = Lock(recipient=options["recipient"], passphrase=passphrase)
                made = make(place, lock, by=options["by"], now=now)
                self.stdout.write(f"{made.file}, {made.size / 2**20:.1f} MiB, loaded once to check it.")
        except BackupFailed as error:
            raise CommandError(f"{error.sentence} {error.remedy}") from None
        except OSError as error:
            raise CommandError(f"{error.filename}: {error.strerror}.") from None
