"""Of several keepers exactly one looks after a site. Times of leases are the database's, as with runs."""

from __future__ import annotations

from django.db import connection, transaction

from maestoso.engine.incarnation import known_gone
from maestoso.server.keeper.models import KeeperLease
from maestoso.server.reign.services import past_because

LEASE_S = 120.0
"""Longer than one look takes, however patient; a keeper of this machine that died is known to be gone."""


def take(duty: str, owner: str, lease_s: float = LEASE_S) -> bool:
    """Take or keep a duty that is free, has run out, is the owner's own, or of a process known to be gone.

    None where another machine has taken over: there is nothing to look after here any more.
    """
    if past_because():
        return False
    row, _ = KeeperLease.objects.get_or_create(duty=duty, defaults={"owner": ""})
    before = row.owner if known_gone(row.owner, owner) else owner
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(
            "UPDATE keeper_keeperlease SET owner=%s, until=UTC_TIMESTAMP(6) + INTERVAL %s MICROSECOND"
            " WHERE duty=%s AND (until IS NULL OR until < UTC_TIMESTAMP(6) OR owner IN (%s, %s))",
            [owner, int(lease_s * 1e6), duty, owner, before],
        )
        return bool(cursor.rowcount == 1)


def release(owner: str) -> None:
    """Give back what is held, so that another keeper need not wait."""
    KeeperLease.objects.filter(owner=owner).update(until=None)
