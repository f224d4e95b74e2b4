"""Deadlocks and lock waits that ran out: what the database took back as a whole is done again."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import ParamSpec, TypeVar

from django.db import OperationalError, connection

P = ParamSpec("P")
T = TypeVar("T")
GAVE_WAY = (1205, 1213)
"""Errors of MariaDB for a transaction that another one was before, on the same node or another. Of both it
says "try restarting transaction"."""
AGAIN = 5


def gave_way(error: Exception) -> bool:
    """Whether a transaction was taken back because it met another one, and may be done again."""
    return bool(error.args) and error.args[0] in GAVE_WAY


def retry_deadlocks(call: Callable[P, T]) -> Callable[P, T]:
    """Call it up to ``1 + AGAIN`` times while its transaction gives way.

    For what holds its transaction whole and does nothing outside of the database that must not be done twice.
    Inside of another transaction it is called once: that one was taken back with it.
    """

    @wraps(call)
    def wrapped(*args: P.args, **kwargs: P.kwargs) -> T:
        left = 0 if connection.in_atomic_block else AGAIN
        while True:
            try:
                return call(*args, **kwargs)
            except OperationalError as error:
                if not left or not gave_way(error):
                    raise
                left -= 1

    return wrapped
