"""Reading several rows as they were at one moment, while others go on writing."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from django.db import connection, transaction


@contextmanager
def one_moment() -> Iterator[None]:
    """All that is read inside is of the moment of the first look; inside a transaction it changes nothing."""
    if connection.in_atomic_block:
        yield
        return
    with connection.cursor() as cursor:
        # For the next transaction only; the rest of the application reads what is committed.
        cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
    with transaction.atomic():
        yield
