"""``make_administrator NAME``: makes the account, or gives it a new password, read from standard input."""

from __future__ import annotations

import sys
from typing import Any

from django.contrib.auth.models import User
from django.contrib.auth.password_validation import validate_password
from django.core.exceptions import ValidationError
from django.core.management.base import BaseCommand, CommandError, CommandParser


class Command(BaseCommand):
    """Makes an administrator."""

    help = __doc__ or ""

    def add_arguments(self, parser: CommandParser) -> None:
        """One argument: the name to sign in with."""
        parser.add_argument("name")

    def handle(self, *args: Any, **options: Any) -> None:
        """Check the password by the rules of the settings, then store its hash."""
        password = sys.stdin.readline().rstrip("\n")
        user, _ = User.objects.get_or_create(username=options["name"])
        try:
            validate_password(password, user)
        except ValidationError as error:
            raise CommandError(" ".join(error.messages)) from error
        user.set_password(password)
        user.is_superuser = True
        user.save()
