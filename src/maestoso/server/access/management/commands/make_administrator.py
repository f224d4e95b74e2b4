"""``make_administrator NAME``: makes the account, or lets it in again with a new password and the role.

The password is read from standard input. It is how a locked-out organisation gets in, which stands
in the audit trail.
"""

from __future__ import annotations

import sys
from typing import Any

from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import transaction

from maestoso.core.errors import BadValue
from maestoso.core.people.roles import ADMINISTRATOR
from maestoso.engine.clock import SystemClock
from maestoso.server.access import second_factor
from maestoso.server.access.models import OutsideIdentity, RoleGrant
from maestoso.server.access.people import set_password
from maestoso.server.audit.models import AuditEntry
from maestoso.server.audit.record import add_entry


class Command(BaseCommand):
    """Makes an administrator."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """One argument: the name to sign in with."""
        parser.add_argument("name")

    def handle(self, *args: Any, **options: Any) -> None:
        """Check the password by the rules of the settings, store its hash, and give the role."""
        password = sys.stdin.readline().rstrip("\n")
        now = SystemClock().now()
        with transaction.atomic():
            user, made = User.objects.get_or_create(username=options["name"])
            try:
                set_password(user, password, field="password")
            except BadValue as error:
                raise CommandError(error.remedy) from error
            if not user.is_active:
                user.is_active = True
                user.save()
            # Whoever signed in at a provider that is gone, or lost the device, is locked out as well.
            OutsideIdentity.objects.filter(user=user).delete()
            second_factor.forget_devices(user)
            whole = {"scope": {}, "group": "", "by": "", "at": now}
            RoleGrant.objects.update_or_create(user=user, role=ADMINISTRATOR, defaults=whole)
            what = "Make an administrator" if made else "Let an administrator in again"
            add_entry(
                AuditEntry(
                    at=now, by="", address="", method="", path=f"people/{user.username}",
                    sent={}, changed=[], did=f"{what}, on the machine itself",
                )
            )  # fmt: skip
