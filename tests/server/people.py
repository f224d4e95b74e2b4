"""People for tests of the server."""

from __future__ import annotations

from collections.abc import Iterable

from django.contrib.auth.models import User

from maestoso.engine.clock import SystemClock
from maestoso.server.access.models import RoleGrant


def make_person(name: str, password: str | None = None, roles: Iterable[str] = ("administrator",)) -> User:
    """Somebody with these roles."""
    user = User.objects.create_user(name, password=password)
    at = SystemClock().now()
    RoleGrant.objects.bulk_create(RoleGrant(user=user, role=role, at=at) for role in roles)
    return user
