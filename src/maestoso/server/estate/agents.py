"""Speaking to site agents from the web process: short questions, short patience, remembered briefly."""

from __future__ import annotations

import asyncio
import socket
import threading
import time
from collections import OrderedDict
from collections.abc import Awaitable, Callable, Coroutine, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from typing import Any, TypeVar
from urllib.parse import urlsplit

from django.core.cache import cache

from maestoso.core.errors import BadValue, Refused
from maestoso.core.model.protection import CopyState, RecoveryPoint
from maestoso.core.ports import SiteBusy, SiteRefused, SiteUnreachable
from maestoso.engine.clock import SystemClock
from maestoso.server.common.hosts import is_named, named
from maestoso.server.common.secret_text import unseal
from maestoso.server.config.settings import OPTIONS
from maestoso.server.estate.models import Site
from maestoso.server.reign import services as reign
from maestoso.sites.client import LONGEST_BUSY_S, HttpSite
from maestoso.sites.contract import SitePulse
from maestoso.sites.trust import tls

PATIENCE_S = 2.0
SLOW_PATIENCE_S = 15.0
"""For the pulse of a site that answered last time and is slow now: a start has to know and waits so long."""
STANDS_S = 5.0
"""So long what it said before stands for all others. A run misses a site after the same time."""
LARGE_PATIENCE_S = 60.0
REMEMBER_S = 2
MOST_LINES = 64
SHARE_OF_TIME = 20
"""At most one twentieth of the time is spent asking one site."""
LARGE_S = 0.05
"""A site that takes longer to say its pulse is not waited for twice."""

CLOCK = SystemClock()

T = TypeVar("T")


class SiteSlow(SiteUnreachable):
    """It said nothing within our patience: nobody knows yet whether it will."""


class Lines:
    """Lines to agents that stay open: making one takes longer than most questions.

    They belong to an event loop in a thread of its own, so that any thread may ask.
    """

    def __init__(self) -> None:
        self._known: OrderedDict[tuple[str, str, str], HttpSite] = OrderedDict()
        self._loop: asyncio.AbstractEventLoop | None = None
        self._making = threading.Lock()

    def line(self, url: str, sealed: str, certificate: str = "") -> HttpSite:
        """The line to an agent at ``url``, with its token as it is stored, trusting a certificate."""
        known = (url, sealed, certificate)
        with self._making:
            # Who asks says how long that waits; the line itself must not give up before.
            line = self._known.pop(known, None) or speak_to(*known, longest_s=LARGE_PATIENCE_S)
            self._known[known] = line
            # Of those that are let go somebody may be speaking still; they close with the last who does.
            while len(self._known) > MOST_LINES:
                self._known.popitem(last=False)
        return line

    def wait_for(self, answer: Coroutine[Any, Any, T]) -> T:
        """Wait for what is asked over one of them."""
        with self._making:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
                threading.Thread(target=self._loop.run_forever, name="agents", daemon=True).start()
        return asyncio.run_coroutine_threadsafe(answer, self._loop).result()


def speak_to(url: str, sealed: str, certificate: str, longest_s: float | None = None) -> HttpSite:
    """A new line to an agent. Raises SiteUnreachable where our certificate for it cannot be read."""
    try:
        trust = tls(certificate, OPTIONS.agent_certificate) if url.startswith("https:") else None
    except OSError as error:  # of TLS, too
        said = f"MAESTOSO_AGENT_CERTIFICATE ({OPTIONS.agent_certificate}) cannot be used: {error}."
        raise SiteUnreachable(said) from error
    return HttpSite(
        url, unseal(sealed), trust=trust, installation=reign.INSTALLATION, reign=reign.number(),
        past=reign.is_past, longest_s=longest_s,
    )  # fmt: skip


LINES = Lines()


def client(site: Site) -> HttpSite:
    """The line to the site's agent."""
    return LINES.line(site.agent_url, site.agent_token, site.agent_certificate)


def ask(site: Site, question: Callable[[HttpSite], Awaitable[T]], patience_s: float = PATIENCE_S) -> T:
    """Put one question to one agent. Raises SiteUnreachable (SiteSlow where nothing was said in time) or
    SiteRefused."""
    return put_to(client(site), question, patience_s)


def put_to(
    agent: HttpSite, question: Callable[[HttpSite], Awaitable[T]], patience_s: float = PATIENCE_S
) -> T:
    """The same over a line of one's own."""

    async def answer() -> T:
        try:
            async with asyncio.timeout(patience_s):
                return await question(agent)
        except TimeoutError as error:
            raise SiteSlow(f"No answer within {patience_s:.0f} s.") from error

    return LINES.wait_for(answer())


@dataclass(frozen=True, kw_only=True)
class Pulse:
    """What a site said, and when it was ``heard``; or why it said nothing. ``skew_s``: how far its clock is
    ahead of ours."""

    said: SitePulse | None = None
    heard: datetime | None = None
    lost_because: str | None = None
    skew_s: float = 0.0

    @cached_property
    def newest(self) -> dict[str, RecoveryPoint]:
        """The newest point of every group copied to it."""
        return {state.group: state.newest for state in self.copying.values() if state.newest}

    @cached_property
    def copying(self) -> dict[str, CopyState]:
        """How every group copied to it stands."""
        return {state.group: state for state in self.said.groups} if self.said else {}


def _pulse_key(site: Site) -> str:
    return f"pulse:{site.pk}:{site.agent_url}"


def pulse(site: Site) -> Pulse:
    """The pulse of a site, two seconds old, or older where a large site takes long to say it.

    Nobody waits for such a one: who asks gets what it said before, while it is asked anew.
    """
    key = _pulse_key(site)
    known: Pulse | None = cache.get(key)
    if known is not None:
        return known
    before: Pulse | None = cache.get(f"{key}:before")
    if before is not None and before.said is not None:
        _take_beside(site)
        return before
    return _take_pulse(site)


def pulse_at_hand(site: Site) -> Pulse | None:
    """The pulse that is known, without waiting for it; where it is old, it is asked for beside."""
    key = _pulse_key(site)
    known: Pulse | None = cache.get(key)
    if known is None:
        known = cache.get(f"{key}:last")
        _take_beside(site)
    return known


def _take_pulse(site: Site, patience_s: float = PATIENCE_S) -> Pulse:
    key = _pulse_key(site)
    last: Pulse | None = cache.get(f"{key}:last")
    begin = time.monotonic()
    try:
        said = ask(site, lambda agent: agent.pulse(), patience_s)
        heard = CLOCK.now()
        # It looked at its clock at some moment since it was asked: of all that may be so, the least is said.
        ahead_s = (said.now - heard).total_seconds()
        skew_s = max(ahead_s, min(0.0, ahead_s + time.monotonic() - begin))
        taken = Pulse(said=said, heard=heard, skew_s=skew_s)
        cache.set(f"{key}:last", taken, LONGEST_BUSY_S)
        cache.set(f"{key}:heard", True, LONGEST_BUSY_S)
    except SiteBusy as busy:
        # A site that is busy is not lost: what it said before stands for a while.
        taken = replace(last, heard=CLOCK.now()) if last else Pulse(lost_because=str(busy))
    except (SiteUnreachable, SiteRefused) as error:
        taken = Pulse(lost_because=str(error))
        if isinstance(error, SiteSlow) and patience_s < SLOW_PATIENCE_S and cache.get(f"{key}:heard"):
            # Nor is one that is slow. It is asked with more patience, for which nobody waits who can be told
            # what it said before.
            if last is None or last.heard is None:
                return _take_pulse(site, SLOW_PATIENCE_S)
            _take_beside(site, SLOW_PATIENCE_S)
            if (CLOCK.now() - last.heard).total_seconds() < STANDS_S:
                cache.set(key, last, REMEMBER_S)
                cache.delete(_asked_key(site, patience_s))
                return last
        else:
            cache.delete(f"{key}:heard")
    # However slow it was, whether it is there still is asked before long.
    took_s = min(time.monotonic() - begin, PATIENCE_S)
    cache.set(key, taken, REMEMBER_S if taken.lost_because else max(REMEMBER_S, SHARE_OF_TIME * took_s))
    if took_s > LARGE_S:
        cache.set(f"{key}:before", taken, 2 * SHARE_OF_TIME * took_s + REMEMBER_S)
    cache.delete(_asked_key(site, patience_s))
    return taken


def _take_beside(site: Site, patience_s: float = PATIENCE_S) -> None:
    """Have it asked by a thread of its own, unless one does so already with the same patience."""
    if cache.add(_asked_key(site, patience_s), True, LARGE_PATIENCE_S):
        name = f"pulse-{site.code}"
        threading.Thread(target=_take_pulse, args=(site, patience_s), name=name, daemon=True).start()


def _asked_key(site: Site, patience_s: float) -> str:
    return f"{_pulse_key(site)}:asked:{patience_s:.0f}"


def forget_pulse(site: Site) -> None:
    """Have its pulse asked for anew: something was changed there."""
    for suffix in ("", ":before", ":last"):
        cache.delete(f"{_pulse_key(site)}{suffix}")


@contextmanager
def needed(sentence: str, remedy: str = "") -> Iterator[None]:
    """Turns the silence or the 'no' of a site into a refusal that says what was wanted of it."""
    try:
        yield
    except (SiteUnreachable, SiteRefused) as error:
        usual = "Bring its site agent back, then try again."
        if isinstance(error, SiteSlow):
            usual = "It may be busy: try again in a moment, and see to its site agent if it stays silent."
        raise Refused(f"{sentence}: {error}", remedy or usual, code="site-unreachable") from error


def _within(host: str, setting: str) -> bool:
    """Whether every address of a host is one that is allowed; names are not asked for where no network is."""
    if "/" not in setting:
        return False
    try:
        found = {str(one[4][0]) for one in socket.getaddrinfo(host, None)}
    except OSError:
        return False
    return bool(found) and all(is_named(address, setting) for address in found)


def check_address(url: str) -> str:
    """The address of an agent, tidied. Raises BadValue where it is none, or its host is not allowed."""
    try:
        parts = urlsplit(url.strip())
        host = parts.hostname if parts.port != 0 and parts.scheme in ("http", "https") else None
    except ValueError:
        host = None
    if not host or any(sign in url for sign in "@?#"):
        raise BadValue(
            f"{url[:80]!r} is no address of a site agent.",
            "Write it as http://127.0.0.1:8472.",
            field="agent_url",
        )
    if not is_named(host, OPTIONS.agent_hosts) and not _within(host, OPTIONS.agent_hosts):
        raise BadValue(
            f"Site agents on {host} are not allowed.",
            "Name the host or its network in the setting MAESTOSO_AGENT_HOSTS; now it is: "
            f"{', '.join(named(OPTIONS.agent_hosts))}.",
            field="agent_url",
        )
    return url.strip().rstrip("/")
