"""Wrong passwords of one account make further tries for it slower, from wherever they come.

Nobody can lock another out that way: a browser in which somebody signed in to the account before is not
slowed by what others try, and everybody else only waits. (OWASP calls the mark that such a browser carries a
device cookie.)
"""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Callable

from django.contrib.auth import get_user_model
from django.core.signing import BadSignature, TimestampSigner
from django.http import HttpRequest
from rest_framework.response import Response

FREE_TRIES = 5
FIRST_PAUSE_S = 0.5
LONGEST_PAUSE_S = 8.0
FORGOTTEN_AFTER_S = 900.0
MOST_WAITING = 4
"""Tries for one account that wait at once: more of them would hold more threads of the server."""
MOST_ACCOUNTS = 10_000
COOKIE = "maestoso_known"
COOKIE_AGE_S = 180 * 86_400
_SIGNER = TimestampSigner(salt="maestoso.known-browser")


class TooManyAtOnce(Exception):
    """More tries for one account wait already than may; ask again after ``wait_s``."""

    wait_s = LONGEST_PAUSE_S


class Tries:
    """Failed tries by account, in the memory of the web process."""

    def __init__(
        self, clock: Callable[[], float] = time.monotonic, rest: Callable[[float], None] = time.sleep
    ) -> None:
        self._clock = clock
        self._rest = rest
        self._failed: dict[str, tuple[int, float]] = {}
        self._waiting: dict[str, int] = {}
        self._lock = threading.Lock()

    def pause_s(self, who: str) -> float:
        """How long a try waits before its password is looked at."""
        count, last = self._failed.get(_short(who), (0, 0.0))
        if count < FREE_TRIES or self._clock() - last > FORGOTTEN_AFTER_S:
            return 0.0
        return min(FIRST_PAUSE_S * 2.0 ** min(count - FREE_TRIES, 10), LONGEST_PAUSE_S)

    def wait(self, who: str) -> None:
        """Wait as long as it takes. Raises TooManyAtOnce."""
        pause, key = self.pause_s(who), _short(who)
        if not pause:
            return
        with self._lock:
            if self._waiting.get(key, 0) >= MOST_WAITING:
                raise TooManyAtOnce
            self._waiting[key] = self._waiting.get(key, 0) + 1
        try:
            self._rest(pause)
        finally:
            with self._lock:
                self._waiting[key] -= 1
                if not self._waiting[key]:
                    del self._waiting[key]

    def failed(self, who: str) -> None:
        """A password was wrong."""
        with self._lock:
            now, key = self._clock(), _short(who)
            count, last = self._failed.pop(key, (0, now))
            self._failed[key] = (count + 1 if now - last <= FORGOTTEN_AFTER_S else 1, now)
            while len(self._failed) > MOST_ACCOUNTS:  # names that nobody has are counted too: drop the oldest
                del self._failed[next(iter(self._failed))]

    def succeeded(self, who: str) -> None:
        """Somebody came in: what failed before was theirs."""
        with self._lock:
            self._failed.pop(_short(who), None)


def _short(who: str) -> str:
    return hashlib.sha256(who.casefold().encode(errors="replace")).hexdigest()[:24]


TRIES = Tries()


def counted_as(request: HttpRequest, name: str) -> str:
    """Under which name a try is counted: a browser that is known to the account is counted by itself."""
    given = request.COOKIES.get(COOKIE, "")
    try:
        account, _, browser = _SIGNER.unsign(given, max_age=COOKIE_AGE_S).partition(":")
    except BadSignature:
        return name
    return f"{name} in {browser}" if account == str(_account(name)) else name


def remember_browser(reply: Response, pk: int, browser: str) -> None:
    """Mark a browser in which somebody signed in."""
    reply.set_cookie(
        COOKIE, _SIGNER.sign(f"{pk}:{browser}"), max_age=COOKIE_AGE_S, httponly=True, samesite="Lax",
        path="/api/v1/session",
    )  # fmt: skip


def _account(name: str) -> int:
    found = get_user_model().objects.filter(username=name).values_list("pk", flat=True).first()
    return found or 0
