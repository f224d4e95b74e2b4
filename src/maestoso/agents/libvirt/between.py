"""Between two agents: what the receiving one asks of the sending one, over HTTP with TLS and a secret of
both."""

from __future__ import annotations

import hmac
import ssl
from collections.abc import Awaitable, Callable, Iterator, Mapping
from contextlib import contextmanager
from functools import partial
from typing import Any
from urllib.parse import quote

import httpx
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import Response, StreamingResponse
from starlette.routing import Route

from maestoso.agent_kit.web import Refused, answered, body_of, problem

from .images import Range
from .settings import OtherSite
from .source import FRAME, HASH_BYTES, NoPoint, Source, SourceFault

ANSWER_S = 120.0
"""A point of many machines, frozen by their agents, takes its time."""


class AgentAway(Exception):
    """The other agent does not answer, or refuses; the text is why."""


class Other:
    """The agent of another site, asked for points of its machines."""

    def __init__(self, site: OtherSite) -> None:
        self.site = site
        context = ssl.create_default_context()
        if site.certificate is not None:
            # What is trusted is that certificate, whatever the name in the address.
            context = ssl.create_default_context(cafile=str(site.certificate))
            context.check_hostname = False
        self._client = httpx.Client(
            base_url=site.address, verify=context, timeout=httpx.Timeout(ANSWER_S, connect=5.0),
            trust_env=False,
            headers={"Authorization": f"Bearer {site.secret}"},
        )  # fmt: skip

    def there(self) -> str:
        """Why it cannot be asked; empty where it can."""
        try:
            self._said("GET", "/copies", timeout=5.0)
        except AgentAway as error:
            return str(error)
        return ""

    def open(
        self, group: str, members: Mapping[str, Mapping[str, Any]], *, application: bool
    ) -> dict[str, Any]:
        """As Source.open. Raises AgentAway."""
        told: dict[str, Any] = self._said(
            "POST", "/copies/points", {"group": group, "members": members, "application": application}
        )
        return told

    def close(self, point: str, *, received: bool) -> None:
        """As Source.close."""
        self._said("DELETE", f"/copies/points/{point}?received={'yes' if received else ''}")

    def ranges(self, point: str, machine: str, disk: str) -> tuple[int, list[Range], list[Range] | None]:
        """As Source.ranges: size, data, changed."""
        told = self._said("GET", f"{_disk(point, machine, disk)}/ranges")
        changed = told["changed"]
        return told["size"], _ranges(told["data"]), None if changed is None else _ranges(changed)

    def hashes(self, point: str, machine: str, disk: str, ranges: list[Range]) -> Iterator[bytes]:
        """As Source.hashes, one by one."""
        with self._stream(f"{_disk(point, machine, disk)}/hashes", ranges) as pieces:
            rest = b""
            for piece in pieces:
                rest += piece
                whole = len(rest) - len(rest) % HASH_BYTES
                for at in range(0, whole, HASH_BYTES):
                    yield rest[at : at + HASH_BYTES]
                rest = rest[whole:]

    def blocks(
        self, point: str, machine: str, disk: str, ranges: list[Range]
    ) -> Iterator[tuple[int, int, bytes | None]]:
        """Offset, length and what is there (None: zeros)."""
        with self._stream(f"{_disk(point, machine, disk)}/blocks", ranges) as pieces:
            rest = bytearray()
            for piece in pieces:
                rest += piece
                while len(rest) >= FRAME.size:
                    offset, length, zero = FRAME.unpack_from(rest)
                    end = FRAME.size + (0 if zero else length)
                    if len(rest) < end:
                        break
                    yield offset, length, None if zero else bytes(rest[FRAME.size : end])
                    del rest[:end]
            if rest:
                raise AgentAway(f"The agent of {self.site.code} ended in the middle of a block.")

    def _said(self, method: str, path: str, body: Any = None, timeout: float | None = None) -> Any:
        more: dict[str, Any] = {} if timeout is None else {"timeout": timeout}
        try:
            answer = self._client.request(method, path, json=body, **more)
        except (httpx.HTTPError, OSError) as error:
            raise AgentAway(f"The agent of {self.site.code} does not answer: {error}.") from error
        self._check(answer)
        return answer.json()

    @contextmanager
    def _stream(self, path: str, ranges: list[Range]) -> Iterator[Iterator[bytes]]:
        try:
            with self._client.stream("POST", path, json={"ranges": ranges}) as answer:
                if answer.is_error:
                    answer.read()
                self._check(answer)
                yield answer.iter_bytes()
        except (httpx.HTTPError, OSError) as error:
            raise AgentAway(f"The agent of {self.site.code} stopped in the middle: {error}.") from error

    def _check(self, answer: httpx.Response) -> None:
        if answer.is_error:
            try:
                why = answer.json()["detail"]
            except (ValueError, KeyError, TypeError):
                why = f"It answers {answer.status_code}."
            raise AgentAway(f"The agent of {self.site.code} refuses: {why}")


def routes(source: Source, secrets: Mapping[str, str]) -> list[Route]:
    """What the sending side answers to agents of other sites that show the secret of their site."""

    def let_in(handler: Callable[[Request], Awaitable[Any]]) -> Callable[[Request], Awaitable[Response]]:
        inside = answered(handler)

        async def answer(request: Request) -> Response:
            given = request.headers.get("authorization", "").encode()
            if not [one for one in secrets.values() if hmac.compare_digest(given, f"Bearer {one}".encode())]:
                return problem(401, "unauthorised", "The secret of the two sites is missing or wrong.")
            return await inside(request)

        return answer

    async def there(request: Request) -> Any:
        return {}

    async def open_point(request: Request) -> Any:
        asked = await body_of(request)
        with _readable():
            members = {str(name): {"disks": list(one["disks"]), "since": str(one.get("since", ""))}
                       for name, one in asked["members"].items()}  # fmt: skip
            work = partial(source.open, str(asked["group"]), members, application=bool(asked["application"]))
        try:
            return await run_in_threadpool(work)
        except SourceFault as error:
            raise Refused(409, "no-point", str(error)) from error

    async def close_point(request: Request) -> Any:
        received = request.query_params.get("received") == "yes"
        await run_in_threadpool(partial(source.close, request.path_params["point"], received=received))
        return {}

    async def ranges(request: Request) -> Any:
        return await _found(source.ranges, *_named(request))

    def streamed(work: Callable[..., Iterator[bytes]]) -> Callable[[Request], Awaitable[Any]]:
        async def stream(request: Request) -> Any:
            asked = await body_of(request)
            with _readable():
                wanted = _ranges(asked["ranges"])
            pieces = work(*_named(request), wanted)
            # The first piece now, so that what is not there is a refusal and no half answer.
            first = await _found(next, pieces, b"")

            def all_of_it() -> Iterator[bytes]:
                yield first
                yield from pieces

            return StreamingResponse(all_of_it(), media_type="application/octet-stream")

        return stream

    disk = "/copies/points/{point}/{machine}/{disk}"
    return [
        Route("/copies", let_in(there), methods=["GET"]),
        Route("/copies/points", let_in(open_point), methods=["POST"]),
        Route("/copies/points/{point}", let_in(close_point), methods=["DELETE"]),
        Route(f"{disk}/ranges", let_in(ranges), methods=["GET"]),
        Route(f"{disk}/hashes", let_in(streamed(source.hashes)), methods=["POST"]),
        Route(f"{disk}/blocks", let_in(streamed(source.blocks)), methods=["POST"]),
    ]


async def _found(work: Callable[..., Any], *args: Any) -> Any:
    try:
        return await run_in_threadpool(work, *args)
    except NoPoint as error:
        raise Refused(404, "not-found", f"The point {error} is not open here any more.") from error


@contextmanager
def _readable() -> Iterator[None]:
    """What has another shape than is asked for is refused."""
    try:
        yield
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise Refused(400, "bad-value", f"The request cannot be read: {error!r}.") from error


def _named(request: Request) -> tuple[str, str, str]:
    return request.path_params["point"], request.path_params["machine"], request.path_params["disk"]


def _ranges(told: Any) -> list[Range]:
    return [Range(offset, length) for offset, length in told]


def _disk(point: str, machine: str, disk: str) -> str:
    return f"/copies/points/{point}/{quote(machine, safe='')}/{quote(disk, safe='')}"
