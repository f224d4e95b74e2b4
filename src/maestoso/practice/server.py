"""The thin HTTP server of a practice site: translates the site protocol to the world and back."""

from __future__ import annotations

import asyncio
import hashlib
import json
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager, suppress
from dataclasses import replace
from datetime import datetime, timedelta
from functools import partial
from typing import Any

import httpx
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.routing import Route

from maestoso.agent_kit import web
from maestoso.agent_kit.crash_points import crash_point
from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, DomainError, NotFound
from maestoso.core.model.estate import Inventory
from maestoso.core.ports import Clock, SiteRefused
from maestoso.core.replication.copy_key import fingerprint
from maestoso.practice import doors
from maestoso.practice.replication import AWAY, LAG_EVERY_S
from maestoso.practice.spec import Fault, Switch, Trouble
from maestoso.practice.store import Store
from maestoso.practice.verbs import VERBS
from maestoso.practice.world import World
from maestoso.sites import verbs
from maestoso.sites.contract import (
    PROTOCOL,
    Answering,
    Asked,
    HeldLandings,
    Lags,
    LeaseAsked,
    SitePulse,
    Submission,
)

TICK_S = 10.0
"""Without anything due, and without anybody who asks, its time goes on in steps of this."""
PEER_AGAIN_S = 1.0
PEER_WAIT_S = 20.0
KEEP_EVERY_S = 300.0
PEER_PATIENCE_S = 2.0
GIVEN_A_KEY = frozenset({"protect", "reverse-copying"})


Handler = Callable[["PracticeSite", Request], Awaitable[Any]]


class PracticeSite:
    """The world behind the server: keeps its clock going and tells those who wait for changes."""

    def __init__(
        self, world: World, store: Store, clock: Clock, token: str, peers: Mapping[str, str] | None = None
    ) -> None:
        self.world = world
        self.peers = peers or {}
        self.store = store
        self.clock = clock
        self.token = token
        self._news = asyncio.Event()
        self._sooner = asyncio.Event()
        self._kept_at = 0.0
        self._marked: Inventory | None = None
        self._mark = ""

    def keep(self) -> None:
        """Make a snapshot of the copying."""
        self._kept_at = self.seconds()
        self.store.keep_copying(self.world)

    def protocol(self) -> str:
        """The version of the site protocol that its agent speaks."""
        return "1.0" if self.world.old_agent else PROTOCOL

    def inventory_mark(self) -> str:
        """A text that changes with the inventory."""
        if self._marked is not self.world.inventory:
            text = json.dumps(to_data(self.world.inventory), sort_keys=True)
            self._marked, self._mark = self.world.inventory, hashlib.sha256(text.encode()).hexdigest()[:16]
        return self._mark

    def seconds(self) -> float:
        """The site's clock, in seconds since 1970."""
        return self.clock.now().timestamp()

    def clock_as_told(self) -> datetime:
        """What the site believes the time to be."""
        return self.clock.now() + timedelta(seconds=self.world.skew_s)

    def put(self, key: str, submission: Submission) -> Any:
        """Take an operation in, durable before it has any effect."""
        at = self.seconds()
        if key not in self.world.ops:
            submission = _without_secrets(submission)
            crash_point("before-write", (key,))
            self.store.submitted(at, key, submission)
            crash_point("after-write", (key,))
        state = self.world.submit(key, submission, at)
        self._announce()
        self._sooner.set()
        crash_point("before-reply", (key,))
        return to_data(state)

    def change(self, kind: str, value: Any, act: Callable[[float], None]) -> None:
        """Change the world from outside, durable before it has any effect."""
        at = self.seconds()
        self.store.write(at, kind, to_data(value))
        act(at)
        self._announce()
        self._sooner.set()

    def fault(self, fault: Fault | None) -> None:
        """Misbehave, or (None) put all right."""
        if fault is None:
            self.change("clear", None, self.world.clear_faults)
        else:
            self.change("fault", fault, lambda at: self.world.add_fault(fault, at))

    def peer(self, code: str, reason: str) -> None:
        """Another site stopped answering, or (empty reason) answers again."""
        if self.world.replication.away.get(code, "") != reason:
            value = {"source": code, "reason": reason}
            self.change("away", value, lambda at: self.world.set_away(code, reason, at))

    async def changes(self, after: int, wait_s: float) -> dict[str, Any]:
        """Changes behind a cursor; waits for some when there are none."""
        self.advance()
        if after < 0:
            return {"operations": [], "cursor": len(self.world.changed), "epoch": self.world.epoch}
        if len(self.world.changed) <= after:
            with suppress(TimeoutError):
                # Not wait_for: in Python 3.11 it can swallow a cancellation that comes with the news.
                async with asyncio.timeout(wait_s):
                    await self._news.wait()
        states, cursor = self.world.changes(after)
        return {"operations": to_data(states), "cursor": cursor, "epoch": self.world.epoch}

    def advance(self) -> None:
        """Let the world come up to the clock."""
        before = len(self.world.changed)
        self.world.advance(self.seconds())
        self.world.care()
        if len(self.world.changed) > before:
            self._announce()

    async def while_lit(self, wait_s: float) -> None:
        """Until that time is over, or the site goes dark."""
        with suppress(TimeoutError):
            async with asyncio.timeout(wait_s):
                while not self.world.dark:
                    await self._news.wait()

    def _announce(self) -> None:
        self._news.set()
        self._news = asyncio.Event()

    async def keep_time(self) -> None:
        """Let things happen when they are due, also when nobody asks."""
        while True:
            self.advance()
            if self.seconds() - self._kept_at >= KEEP_EVERY_S:
                self.keep()
            due = self.world.next_due()
            self._sooner.clear()
            pause = TICK_S if due is None else min(max(due - self.seconds(), 0.0), TICK_S)
            with suppress(TimeoutError):
                async with asyncio.timeout(pause):
                    await self._sooner.wait()


async def watch_peer(site: PracticeSite, code: str, url: str) -> None:
    """Notice when another site goes away: nothing can be copied from it then.

    One that is there is asked to answer when it goes dark, so that a line which breaks tells at once. It is
    away once it does not answer twice: where all sites are stopped together, none has been lost.
    """
    patience = httpx.Timeout(PEER_PATIENCE_S + PEER_WAIT_S, connect=PEER_PATIENCE_S)
    async with httpx.AsyncClient(base_url=url, timeout=patience, trust_env=False) as line:
        headers, silent = {"Authorization": f"Bearer {site.token}"}, 0
        while True:
            # In step with its state: one that was away is asked at once whether it is back.
            wait_s = 0.0 if silent or site.world.replication.away.get(code) else PEER_WAIT_S
            try:
                answer = await line.get("/v1/clock", headers=headers, params={"wait": wait_s})
                silent = 0 if answer.status_code == 200 else silent + 1
            except httpx.TransportError:
                silent += 1
            if silent != 1:
                site.peer(code, AWAY if silent else "")
            if silent:
                await asyncio.sleep(PEER_AGAIN_S)


# --- what it answers ---


async def _capabilities(site: PracticeSite, request: Request) -> Any:
    return {
        "protocol": site.protocol(),
        "agent": "practice site",
        "site": site.world.spec.code,
        "practice": True,
        "verbs": sorted(VERBS),
        "epoch": site.world.epoch,
    }


async def _clock(site: PracticeSite, request: Request) -> Any:
    await site.while_lit(web.wait_s(request))
    return {"now": site.clock_as_told().isoformat()}


async def _inventory(site: PracticeSite, request: Request) -> Any:
    return to_data(site.world.inventory)


async def _points(site: PracticeSite, request: Request) -> Any:
    site.advance()
    group = request.query_params.get("group", "")
    return {"points": to_data(site.world.points(group)), "changes": to_data(site.world.changes_of(group))}


async def _pulse(site: PracticeSite, request: Request) -> Any:
    site.advance()
    running, copies = site.world.running()
    said = SitePulse(
        now=site.clock_as_told(),
        inventory=site.inventory_mark(),
        groups=site.world.replication.states(),
        links=site.world.replication.link_states(),
        landings=str(site.world.held_changes),
        protocol=site.protocol(),
        running=running,
        copies=copies,
        off=site.world.off(),
        under_way=site.world.under_way(),
        epoch=site.world.epoch,
    )
    return to_data(said)


async def _landings(site: PracticeSite, request: Request) -> Any:
    site.advance()
    return to_data(HeldLandings(landings=tuple(site.world.held.values())))


async def _lags(site: PracticeSite, request: Request) -> Any:
    site.advance()
    return to_data(Lags(every_s=LAG_EVERY_S, groups=site.world.replication.lags()))


async def _change_rates(site: PracticeSite, request: Request) -> Any:
    return {"workloads": to_data(site.world.change_rates())}


async def _answering(site: PracticeSite, request: Request) -> Any:
    if site.world.old_agent:
        raise NotFound("There is no such address.", "It came with protocol 1.1.")
    asked = from_data(Asked, await web.body_of(request), "asked", tolerant=True)
    site.advance()
    return to_data(Answering(services=site.world.answering(asked.workloads, asked.mark), mark=asked.mark))


async def _journal(site: PracticeSite, request: Request) -> Any:
    site.advance()
    return {"entries": to_data(site.world.journal[web.whole(request, "after", 0) :])}


async def _remains(site: PracticeSite, request: Request) -> Any:
    site.advance()
    return {"remains": site.world.remains(request.query_params.get("mark", ""))}


async def _put_operation(site: PracticeSite, request: Request) -> Any:
    submission = from_data(Submission, await web.body_of(request), "operation", tolerant=True)
    if not submission.pace > 0:
        raise BadValue(f"pace is {submission.pace}.", "Give a number above 0.", field="operation.pace")
    known = verbs.VERBS.get(submission.verb)
    if known is not None:
        from_data(known.args, submission.args, "operation.args", tolerant=True)
    return site.put(request.path_params["key"], submission)


async def _operation(site: PracticeSite, request: Request) -> Any:
    site.advance()
    state = site.world.operation(request.path_params["key"])
    if state is None:
        raise NotFound(f"This site never heard of the operation {request.path_params['key']!r}.")
    return to_data(state)


async def _feed(site: PracticeSite, request: Request) -> Any:
    return await site.changes(web.whole(request, "after", 0), web.wait_s(request))


async def _lease(site: PracticeSite, request: Request) -> Any:
    if site.world.old_agent:
        raise NotFound("There is no such address.", "It came with protocol 1.4.")
    asked = from_data(LeaseAsked, await web.body_of(request), "lease", tolerant=True)
    return site.store.leases.give(request.path_params["installation"], to_data(asked))


async def _add_fault(site: PracticeSite, request: Request) -> Any:
    site.fault(from_data(Fault, await web.body_of(request), "fault"))
    return {}


async def _add_trouble(site: PracticeSite, request: Request) -> Any:
    trouble = from_data(Trouble, await web.body_of(request), "trouble")
    site.change("trouble", trouble, lambda at: site.world.add_trouble(trouble, at))
    return {}


async def _throw_switch(site: PracticeSite, request: Request) -> Any:
    switch = from_data(Switch, await web.body_of(request), "switch")
    site.change("switch", switch, lambda at: site.world.throw(switch, at))
    return {}


async def _broken(site: PracticeSite, request: Request) -> Any:
    site.advance()
    return to_data(site.world.broken())


async def _clear_faults(site: PracticeSite, request: Request) -> Any:
    site.fault(None)
    return {}


async def _set_inventory(site: PracticeSite, request: Request) -> Any:
    inventory = from_data(Inventory, await web.body_of(request), "inventory")
    site.change("inventory", inventory, lambda at: site.world.set_inventory(inventory, at))
    return {}


ROUTES: tuple[tuple[str, str, Handler], ...] = (
    ("/capabilities", "GET", _capabilities),
    ("/clock", "GET", _clock),
    ("/inventory", "GET", _inventory),
    ("/points", "GET", _points),
    ("/pulse", "GET", _pulse),
    ("/landings", "GET", _landings),
    ("/lags", "GET", _lags),
    ("/change-rates", "GET", _change_rates),
    ("/answering", "POST", _answering),
    ("/journal", "GET", _journal),
    ("/remains", "GET", _remains),
    ("/leases/{installation}", "PUT", _lease),
    ("/operations", "GET", _feed),
    ("/operations/{key:path}", "PUT", _put_operation),
    ("/operations/{key:path}", "GET", _operation),
    ("/practice/faults", "POST", _add_fault),
    ("/practice/faults", "DELETE", _clear_faults),
    ("/practice/troubles", "POST", _add_trouble),
    ("/practice/inventory", "POST", _set_inventory),
    ("/practice/switches", "POST", _throw_switch),
    ("/practice", "GET", _broken),
)


def application(site: PracticeSite) -> Starlette:
    """The ASGI application of one practice site."""

    @asynccontextmanager
    async def lifespan(app: Starlette) -> AsyncIterator[None]:
        tasks = [asyncio.create_task(site.keep_time())]
        tasks += [asyncio.create_task(watch_peer(site, code, url)) for code, url in site.peers.items()]
        yield
        for task in tasks:
            task.cancel()
        site.keep()
        site.store.close()

    routes = [
        Route(
            f"/v1{path}",
            web.guarded(lambda: (site.token,), _lit(site, partial(handler, site))),
            methods=[method],
        )
        for path, method, handler in ROUTES
    ]
    outside = Route("/outside/{address}/{port:int}", partial(_outside, site), methods=["GET"])
    return Starlette(routes=[*routes, outside], lifespan=lifespan)


async def _outside(site: PracticeSite, request: Request) -> Response:
    """What somebody gets who comes to a front door from outside: no token, as they have none.

    ``from`` is the address that they come from.
    """
    address, port = request.path_params["address"], request.path_params["port"]
    site.advance()
    copy = doors.behind(site.world, address, f"tcp/{port}", request.query_params.get("from", ""))
    offers = site.world.known[copy.workload].offers if copy is not None else ()
    service = next((one.name for one in offers if one.port == port), "")
    if copy is None or not service or not copy.powered or copy.heartbeat_at > site.world.now:
        return PlainTextResponse(f"Nothing answers at {address}, port {port}.\n", 502)
    return PlainTextResponse(f"{service} is up: {copy.name} at {site.world.spec.code}\n")


def _lit(site: PracticeSite, handler: web.Handler) -> web.Handler:
    """A site without power does not answer, but the practice lab reaches it."""

    async def answer(request: Request) -> Any:
        try:
            _has_power(site, request)
            content = await handler(request)
            _has_power(site, request)
        except SiteRefused as refused:
            raise web.Refused(409, refused.code, refused.reason) from refused
        except DomainError as error:
            raise web.Refused(error.status, error.code, f"{error.sentence} {error.remedy}".strip()) from error
        return content

    return answer


def _has_power(site: PracticeSite, request: Request) -> None:
    if site.world.dark and not request.url.path.startswith("/v1/practice"):
        raise web.Refused(503, "dark", "This site has no power.")


def _without_secrets(submission: Submission) -> Submission:
    """What is given in secret must not be written down: of the key of copies, only its fingerprint is."""
    secrets = submission.args.get("secrets")
    if not isinstance(secrets, dict):
        return submission
    if submission.verb in GIVEN_A_KEY:
        key = str(secrets.get("key", ""))
        written = {"key": fingerprint(submission.subject, key) if key else ""}
    else:
        written = dict.fromkeys(secrets, "")
    return replace(submission, args={**submission.args, "secrets": written})
