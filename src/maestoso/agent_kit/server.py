"""The agent as a web server: the addresses of the site protocol, with TLS where certificates are given."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import asynccontextmanager, suppress
from functools import partial
from pathlib import Path
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from .agent import Agent
from .platform import NotKnown, Platform
from .protocol import unread, with_defaults
from .store import Store
from .tokens import Tokens
from .web import Refused, answered, body_of, guarded, wait_s, whole

Site = Callable[["_Server", Request], Awaitable[Any]]


class _Server:
    """The agent and those who listen to its feed."""

    def __init__(self, agent: Agent, tokens: Tokens) -> None:
        self.agent = agent
        self.tokens = tokens
        self.news = asyncio.Event()

    def announce(self) -> None:
        """Wake everybody who waits for news."""
        self.news.set()
        self.news = asyncio.Event()

    async def ask(self, method: Callable[..., Any], *args: Any) -> Any:
        """Ask the platform, which may take its time. What is not here is refused (404)."""
        try:
            return await run_in_threadpool(method, *args)
        except NotKnown as error:
            raise Refused(404, "not-found", str(error)) from error


def application(platform: Platform, store: Store, tokens: Tokens, more: Sequence[Route] = ()) -> Starlette:
    """The ASGI application of an agent. ``more``: routes of the platform's own, as those between its
    agents."""
    agent = Agent(platform, store)
    server = _Server(agent, tokens)

    @asynccontextmanager
    async def lifespan(app: Starlette) -> AsyncIterator[None]:
        loop = asyncio.get_running_loop()

        def tell() -> None:
            with suppress(RuntimeError):  # the loop has ended
                loop.call_soon_threadsafe(server.announce)

        agent.news.append(tell)
        agent.start()
        yield
        await run_in_threadpool(agent.stop)

    def guard(handler: Site) -> Callable[[Request], Awaitable[Response]]:
        return guarded(tokens.known, partial(handler, server), tokens.used)

    routes = [Route(f"/v1{path}", guard(handler), methods=[method]) for path, method, handler in ROUTES]
    # Whoever has the one-time code has no token yet.
    routes.append(Route("/v1/enrol", answered(partial(_enrol, server)), methods=["POST"]))
    return Starlette(routes=[*routes, *more], lifespan=lifespan)


def serve(
    platform: Platform, *, state: Path, port: int, token_file: Path, host: str = "127.0.0.1",
    certificate: Path | None = None, key: Path | None = None, client_ca: Path | None = None,
    more: Sequence[Route] = (),
) -> None:  # fmt: skip
    """Serve a platform until the process is told to end.

    ``state`` is the file that is kept over restarts, ``token_file`` that of the tokens; while there is none,
    a one-time code is printed with which Maestoso enrols the agent. With ``certificate`` and ``key`` (PEM) it
    speaks TLS, and with ``client_ca`` only to those who have a certificate of that authority. ``more``:
    routes of the platform's own.
    """
    tokens = Tokens(token_file, certificate)
    if not tokens.known():
        print(f"One-time code, good for an hour: {tokens.open_code()}", flush=True)
    uvicorn.run(
        application(platform, Store(state), tokens, more), host=host, port=port, log_level="warning",
        access_log=False, timeout_graceful_shutdown=2, ssl_certfile=certificate, ssl_keyfile=key,
        ssl_ca_certs=None if client_ca is None else str(client_ca),
        ssl_cert_reqs=ssl.CERT_NONE if client_ca is None else ssl.CERT_REQUIRED,
    )  # fmt: skip


# --- what it answers ---


async def _capabilities(server: _Server, request: Request) -> Any:
    return server.agent.capabilities()


async def _clock(server: _Server, request: Request) -> Any:
    return {"now": server.agent.platform.clock().isoformat()}


async def _inventory(server: _Server, request: Request) -> Any:
    return await server.ask(server.agent.platform.inventory)


async def _points(server: _Server, request: Request) -> Any:
    points, changes = await server.ask(server.agent.platform.points, request.query_params.get("group", ""))
    return {"points": points, "changes": changes}


async def _pulse(server: _Server, request: Request) -> Any:
    return await server.ask(server.agent.pulse)


async def _landings(server: _Server, request: Request) -> Any:
    return {"landings": list(server.agent.store.held().values())}


async def _lags(server: _Server, request: Request) -> Any:
    return await server.ask(server.agent.platform.lags)


async def _change_rates(server: _Server, request: Request) -> Any:
    return {"workloads": await server.ask(server.agent.platform.change_rates)}


async def _answering(server: _Server, request: Request) -> Any:
    asked = await body_of(request)
    fault = unread("Asked", asked)
    if fault:
        raise Refused(400, "bad-value", f"The question cannot be read. {fault}")
    mark = asked.get("mark", "")
    services = await server.ask(server.agent.platform.answering, asked["workloads"], mark)
    return {"services": services, "mark": mark}


async def _journal(server: _Server, request: Request) -> Any:
    return {"entries": server.agent.store.journal(whole(request, "after", 0))}


async def _remains(server: _Server, request: Request) -> Any:
    return {"remains": await server.ask(server.agent.platform.remains, request.query_params.get("mark", ""))}


async def _put_operation(server: _Server, request: Request) -> Any:
    return await server.ask(server.agent.put, request.path_params["key"], await body_of(request))


async def _lease(server: _Server, request: Request) -> Any:
    asked = await body_of(request)
    fault = unread("LeaseAsked", asked)
    if fault:
        raise Refused(400, "bad-value", f"The lease cannot be read. {fault}")
    asked = with_defaults("LeaseAsked", asked)
    return await server.ask(server.agent.store.leases.give, request.path_params["installation"], asked)


async def _token(server: _Server, request: Request) -> Any:
    return {"token": await run_in_threadpool(server.tokens.another)}


async def _enrol(server: _Server, request: Request) -> Any:
    asked = await body_of(request)
    fault = unread("Enrolment", asked)
    if fault:
        raise Refused(400, "bad-value", f"The code cannot be read. {fault}")
    meant = asked.get("site", "")
    other = "" if meant == server.agent.platform.site else meant
    return {"token": await run_in_threadpool(partial(server.tokens.enrol, asked["code"], other_site=other))}


async def _operation(server: _Server, request: Request) -> Any:
    return server.agent.operation(request.path_params["key"])


async def _feed(server: _Server, request: Request) -> Any:
    after, patience = whole(request, "after", 0), wait_s(request)
    news = server.news
    told = server.agent.changes(after)
    if after >= 0 and not told["operations"] and told["cursor"] <= after:
        with suppress(TimeoutError):
            async with asyncio.timeout(patience):
                await news.wait()
        told = server.agent.changes(after)
    return told


ROUTES: tuple[tuple[str, str, Site], ...] = (
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
    ("/token", "POST", _token),
    ("/operations", "GET", _feed),
    ("/operations/{key:path}", "PUT", _put_operation),
    ("/operations/{key:path}", "GET", _operation),
)
