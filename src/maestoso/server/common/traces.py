"""Traces for a collector of OpenTelemetry (OTLP over HTTP): requests, jobs, and runs with their steps.

Without the setting ``traces`` nothing of it is loaded. A span is made when what it is of has ended, from what
is known by then; those of a run have ids that follow from its number: one that is told twice is the same.
"""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from hashlib import sha256
from typing import TYPE_CHECKING

from django.http import HttpRequest, HttpResponseBase

from maestoso import __version__
from maestoso.server.config.settings import OPTIONS, SECRETS

if TYPE_CHECKING:
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace.export import BatchSpanProcessor

MOST_WAITING = 20_000
"""Spans; a run of thousands of steps is told at once."""
TOLD_EVERY_MS = 2000
FROM_OUTSIDE = re.compile(r"00-([0-9a-f]{32})-([0-9a-f]{16})-[0-9a-f]{2}")
"""The header ``traceparent`` (W3C Trace Context, 3.2)."""
Value = str | int | float | bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """A step of a run that was asked for: from when to when, at which attempt, and how it ended."""

    id: str
    verb: str
    workload: str
    status: str
    attempt: int
    began: datetime
    ended: datetime


def tracing() -> bool:
    """Whether anybody collects traces."""
    return bool(OPTIONS.traces)


def request_answered(
    request: HttpRequest, response: HttpResponseBase, asked: str, began: datetime, ended: datetime
) -> None:
    """A request, in the trace of its sender, if it says which. ``asked`` is its id in the log."""
    found = FROM_OUTSIDE.fullmatch(request.headers.get("traceparent", ""))
    whole, parent = (int(found[1], 16), int(found[2], 16)) if found else (0, 0)
    match = request.resolver_match
    route = f"/{match.route}" if match is not None else ""
    _record(
        f"{request.method} {route or 'nowhere'}", began, ended, server=True,
        trace=whole or secrets.randbits(128), parent=parent if whole else 0,
        failed="the fault is here" if response.status_code >= 500 else "",
        about={
            "http.request.method": request.method or "", "http.route": route, "url.path": request.path,
            "http.response.status_code": response.status_code, "maestoso.request": asked,
        },
    )  # fmt: skip


def job_done(number: int, kind: str, attempt: int, state: str, began: datetime, ended: datetime) -> None:
    """An attempt at a job, and how that ended."""
    about: dict[str, Value] = {"maestoso.job": number, "maestoso.attempt": attempt, "maestoso.state": state}
    failed = "it failed" if state == "failed" else ""
    _record(f"job {kind}", began, ended, trace=secrets.randbits(128), failed=failed, about=about)


def run_ended(
    number: int, plan: str, kind: str, outcome: str, began: datetime, ended: datetime, steps: Iterable[Step]
) -> None:
    """A run that has ended, and all that it did: one trace."""
    whole = _number(f"run {number}", 16)
    root = _number(f"span of run {number}", 8)
    about: dict[str, Value] = {
        "maestoso.run": number, "maestoso.plan": plan, "maestoso.kind": kind, "maestoso.outcome": outcome
    }  # fmt: skip
    _record(f"run {kind}", began, ended, trace=whole, span=root, about=about)
    for step in steps:
        _record(
            step.verb, step.began, step.ended,
            trace=whole, span=_number(f"run {number} step {step.id}", 8), parent=root,
            failed="it failed" if step.status == "failed" else "",
            about={
                "maestoso.run": number, "maestoso.step": step.id, "maestoso.workload": step.workload,
                "maestoso.status": step.status, "maestoso.attempt": step.attempt,
            },
        )  # fmt: skip


def _number(text: str, size: int) -> int:
    """A number of so many bytes that follows from a text, for this installation only."""
    return int.from_bytes(sha256(f"{SECRETS.instance} {text}".encode()).digest()[:size], "big") or 1


def _record(
    name: str, began: datetime, ended: datetime, *, trace: int, span: int = 0, parent: int = 0,
    server: bool = False, failed: str = "", about: Mapping[str, Value],
) -> None:  # fmt: skip
    if not tracing():
        return
    from opentelemetry.sdk.trace import ReadableSpan
    from opentelemetry.sdk.util.instrumentation import InstrumentationScope
    from opentelemetry.trace import SpanContext, SpanKind, Status, StatusCode, TraceFlags

    def place(number: int) -> SpanContext:
        return SpanContext(trace, number, is_remote=False, trace_flags=TraceFlags(TraceFlags.SAMPLED))

    resource, sender = _sender()
    sender.on_end(
        ReadableSpan(
            name,
            context=place(span or secrets.randbits(64)),
            parent=place(parent) if parent else None,
            resource=resource,
            attributes=about,
            kind=SpanKind.SERVER if server else SpanKind.INTERNAL,
            status=Status(StatusCode.ERROR, failed) if failed else Status(),
            start_time=_nanoseconds(began),
            end_time=_nanoseconds(ended),
            instrumentation_scope=InstrumentationScope("maestoso", __version__),
        )
    )


def _nanoseconds(at: datetime) -> int:
    return round(at.timestamp() * 1e6) * 1000


@lru_cache(1)
def _sender() -> tuple[Resource, BatchSpanProcessor]:
    """Made in the process that traces, at its first span: it has a thread of its own."""
    import requests
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace.export import BatchSpanProcessor

    session = requests.Session()
    session.trust_env = False
    exporter = OTLPSpanExporter(endpoint=f"{OPTIONS.traces.rstrip('/')}/v1/traces", session=session)
    resource = Resource(
        {
            "service.name": "maestoso",
            "service.version": __version__,
            "service.instance.id": SECRETS.instance,
        }
    )
    return resource, BatchSpanProcessor(
        exporter, max_queue_size=MOST_WAITING, schedule_delay_millis=TOLD_EVERY_MS
    )
