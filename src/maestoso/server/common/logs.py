"""Lines of the log: for people, or one JSON object each for programs; with the request that they are of."""

from __future__ import annotations

import logging
import re
import uuid
from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import UTC, datetime

import orjson
from asgiref.sync import iscoroutinefunction, markcoroutinefunction
from django.http import HttpRequest, HttpResponseBase
from django.utils.decorators import sync_and_async_middleware

from maestoso.engine.clock import SystemClock
from maestoso.server.common.traces import request_answered, tracing

CLOCK = SystemClock()
HEADER = "X-Request-ID"
A_RUN = re.compile(r"\b[Rr]un (?:[0-9a-f]+-)?(\d+)\b")
"""Every line about a run says so in these words; the engine writes whose run it is before the number."""
_request: ContextVar[str] = ContextVar("request", default="")


def request_id() -> str:
    """Of the request that is being answered; empty outside of one."""
    return _request.get()


class Lines(logging.Formatter):
    """For people."""

    def __init__(self) -> None:
        super().__init__("%(asctime)s %(levelname)s %(name)s %(message)s")

    def formatMessage(self, record: logging.LogRecord) -> str:
        """With the request at the end."""
        asked = request_id()
        return super().formatMessage(record) + (f" [request {asked}]" if asked else "")


class Json(logging.Formatter):
    """For programs: ``at`` (RFC 3339, UTC), ``level``, ``logger``, ``message``, and where there are such,
    ``request``, ``run`` and ``error`` (a traceback)."""

    def format(self, record: logging.LogRecord) -> str:
        """One line."""
        message = record.getMessage()
        run = A_RUN.search(message)
        said = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname, "logger": record.name, "message": message, "request": request_id(),
            "run": int(run[1]) if run else None,
            "error": self.formatException(record.exc_info) if record.exc_info and record.exc_info[0] else "",
        }  # fmt: skip
        return orjson.dumps({name: value for name, value in said.items() if value not in ("", None)}).decode()


@sync_and_async_middleware
def RequestId(
    get_response: Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]],
) -> Callable[[HttpRequest], HttpResponseBase | Awaitable[HttpResponseBase]]:
    """Every request has an id of its own, which its reply and all lines about it say."""

    async def later(request: HttpRequest) -> HttpResponseBase:
        began = CLOCK.now()
        with _asked() as asked:
            response = get_response(request)
            assert not isinstance(response, HttpResponseBase)
            return _said(request, await response, asked, began)

    def middleware(request: HttpRequest) -> HttpResponseBase | Awaitable[HttpResponseBase]:
        if iscoroutinefunction(get_response):
            return later(request)
        began = CLOCK.now()
        with _asked() as asked:
            response = get_response(request)
            assert isinstance(response, HttpResponseBase)
            return _said(request, response, asked, began)

    return markcoroutinefunction(middleware) if iscoroutinefunction(get_response) else middleware


@contextmanager
def _asked() -> Iterator[str]:
    """A request is being answered."""
    asked = uuid.uuid4().hex[:16]
    before = _request.set(asked)
    try:
        yield asked
    finally:
        _request.reset(before)


def _said(request: HttpRequest, response: HttpResponseBase, asked: str, began: datetime) -> HttpResponseBase:
    response[HEADER] = asked
    if tracing():
        request_answered(request, response, asked, began, CLOCK.now())
    return response
