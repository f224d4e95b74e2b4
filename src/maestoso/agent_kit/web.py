"""What every answer of an agent has in common: who may ask, problem details, numbers and bodies that can
be read."""

from __future__ import annotations

import hmac
import json
import math
from collections.abc import Awaitable, Callable, Mapping
from typing import Any

from starlette.requests import Request
from starlette.responses import JSONResponse, Response

LONGEST_WAIT_S = 30.0
LARGEST_BODY = 64_000_000

Handler = Callable[[Request], Awaitable[Any]]


class Refused(Exception):
    """A request is answered with a refusal: an HTTP ``status``, a stable ``code`` and a sentence."""

    def __init__(self, status: int, code: str, detail: str, retry_after_s: float | None = None) -> None:
        super().__init__(detail)
        self.status = status
        self.code = code
        self.detail = detail
        self.retry_after_s = retry_after_s


def problem(status: int, code: str, detail: str, headers: Mapping[str, str] | None = None) -> JSONResponse:
    """Problem details (RFC 9457)."""
    return JSONResponse(
        {"status": status, "code": code, "title": code, "detail": detail},
        status_code=status,
        headers=dict(headers or {}),
        media_type="application/problem+json",
    )


def let_in(request: Request, tokens: tuple[str, ...]) -> str:
    """The token that the request carries, if it is one of these; else empty."""
    given = request.headers.get("authorization", "").encode()
    # All of them are compared: how long it takes says nothing about which.
    found = [token for token in tokens if hmac.compare_digest(given, f"Bearer {token}".encode())]
    return found[0] if found else ""


def guarded(
    tokens: Callable[[], tuple[str, ...]], handler: Handler, used: Callable[[str], None] = lambda token: None
) -> Callable[[Request], Awaitable[Response]]:
    """A handler for those who bring a token; ``used`` is told which."""
    inside = answered(handler)

    async def answer(request: Request) -> Response:
        token = let_in(request, tokens())
        if not token:
            return problem(401, "unauthorised", "The bearer token is missing or wrong.")
        used(token)
        return await inside(request)

    return answer


def answered(handler: Handler) -> Callable[[Request], Awaitable[Response]]:
    """A handler for everybody; a refusal becomes problem details. A response goes as it is, all else as
    JSON."""

    async def answer(request: Request) -> Response:
        try:
            told = await handler(request)
            return told if isinstance(told, Response) else JSONResponse(told)
        except Refused as refused:
            again = refused.retry_after_s
            headers = {} if again is None else {"Retry-After": str(math.ceil(again))}
            return problem(refused.status, refused.code, refused.detail, headers)

    return answer


async def body_of(request: Request) -> Any:
    """The JSON of a request. Raises Refused (400)."""
    raw = await request.body()
    if len(raw) > LARGEST_BODY:
        raise Refused(400, "bad-value", f"The request is too large. Keep it under {LARGEST_BODY} bytes.")
    try:
        return json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise Refused(400, "bad-value", "The request is not JSON. Send one JSON object.") from error


def wait_s(request: Request) -> float:
    """How long the answer may be held back. Raises Refused (400)."""
    text = request.query_params.get("wait", "0")
    try:
        return min(max(float(text), 0.0), LONGEST_WAIT_S)
    except ValueError as error:
        raise Refused(400, "bad-value", f"wait is {text!r}, which is not a number. Give seconds.") from error


def whole(request: Request, name: str, otherwise: int) -> int:
    """A whole number of the query. Raises Refused (400)."""
    text = request.query_params.get(name, str(otherwise))
    try:
        return int(text)
    except ValueError as error:
        raise Refused(400, "bad-value", f"{name} is {text!r}. Give a whole number.") from error
