"""What takes long is done for each person a few times at once, so that nobody holds up everybody else."""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager

from rest_framework.request import Request

from maestoso.core.errors import DomainError
from maestoso.core.wording import counted

MOST_OF_ONE = 2
_lock = threading.Lock()
_going_on: Counter[tuple[str, str]] = Counter()


class TooMuchAtOnce(DomainError):
    """One person wants more of something at once than is fair. Remedy: wait until one of them is done."""

    code, status = "too-much-at-once", 429


@contextmanager
def fairly(request: Request, what: str) -> Iterator[None]:
    """While one more of ``what`` (a word for one of them) is made for whoever asks. Raises TooMuchAtOnce."""
    key = (request.user.get_username(), what)
    with _lock:
        if _going_on[key] >= MOST_OF_ONE:
            raise TooMuchAtOnce(
                f"{counted(_going_on[key], what)} of yours are being made already.",
                "Try again when one of them is done.",
            )
        _going_on[key] += 1
    try:
        yield
    finally:
        with _lock:
            _going_on[key] -= 1
            if not _going_on[key]:
                del _going_on[key]
