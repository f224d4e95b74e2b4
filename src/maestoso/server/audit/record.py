"""Writes an entry for every request of a person that changed something, or took evidence out.

Services that change records do it in :func:`recorded`, so that there is never the one without the other.
"""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.conf import settings
from django.core.cache import cache
from django.db import transaction
from django.http import HttpRequest, HttpResponseBase
from django.utils.deprecation import MiddlewareMixin

from maestoso.core.evidence.chain import ROOT, link_text
from maestoso.engine.clock import SystemClock
from maestoso.server.audit.changes import collected, shown
from maestoso.server.audit.models import AuditEntry, AuditHead
from maestoso.server.audit.words import DID, LOOKS_ONLY, what_it_did
from maestoso.server.common.news import announce

CLOCK = SystemClock()
log = logging.getLogger("maestoso.audit")
SEALED = "Seal run"
LARGEST_BODY = 20_000
LIMITS_NOTED_EVERY_S = 60
REFUSALS = frozenset(
    {
        "wrong-sign-in", "wrong-code", "wrong-passkey", "not-let-in", "provider-failed", "bad-token",
        "bad-invitation", "not-allowed", "not-permitted", "needs-second-factor", "needs-approval",
        "deed-needs-approval", "cannot-approve", "last-administrator", "not-yours-to-answer",
    }
)  # fmt: skip
"""Codes of what somebody was not let do, which stands in the trail."""


class AuditTrail(MiddlewareMixin):
    """Around every view of the API that changes something, or lets evidence leave."""

    def process_view(
        self, request: HttpRequest, view: Callable[..., HttpResponseBase], args: Any, kwargs: Any
    ) -> HttpResponseBase | None:  # fmt: skip
        """Let the view do its work, then note what came of it."""
        match = request.resolver_match
        if match is None or not request.path.startswith("/api/v1/"):
            return None
        name, method = str(match.url_name), str(request.method)
        if name in LOOKS_ONLY or method not in DID.get(name, {}):
            return None
        body = {} if method == "GET" else _body(request)
        asked = _Asked(request, what_it_did(name, method, match.kwargs, body), body)
        marks = collected.set([]), _asked.set(asked)
        try:
            response = view(request, *args, **kwargs)
            if response.status_code < 400:
                if collected.get() or not asked.written:
                    asked.write()
            elif _worth_noting(request, response):
                asked.write(refused=_code(response))
        finally:
            collected.reset(marks[0])
            _asked.reset(marks[1])
        return response


@contextmanager
def recorded() -> Iterator[None]:
    """A transaction that holds what is changed and the entry that says so, or neither.

    Outside of a request of a person it is a transaction like any other. The last thing that it locks is the
    head of the trail, so that nobody who holds that waits for anything.
    """
    asked = _asked.get()
    with transaction.atomic():
        if asked is None or asked.depth:
            yield
            return
        found = collected.get() or []
        before, asked.depth = len(found), asked.depth + 1
        try:
            yield
        except BaseException:
            # What is taken back was not changed.
            del found[before:]
            raise
        finally:
            asked.depth -= 1
        asked.write()


def _body(request: HttpRequest) -> Any:
    """What was sent, as it may be kept."""
    kind = request.headers.get("Content-Type", "")
    if "json" not in kind:
        return {"bytes": int(request.headers.get("Content-Length") or 0), "type": kind[:100]}
    raw = request.body
    if len(raw) > LARGEST_BODY:
        return {"bytes": len(raw), "type": kind[:100]}
    try:
        return shown(json.loads(raw or b"null"))
    except (ValueError, RecursionError):
        return None


def _code(response: HttpResponseBase) -> str:
    """The code of a refusal; empty where it says none."""
    said = getattr(response, "data", None)
    return str(said.get("code", "")) if isinstance(said, dict) else ""


def _worth_noting(request: HttpRequest, response: HttpResponseBase) -> bool:
    """Whether a refusal stands in the trail: a wrong password, a right that is lacking, a limit that was hit.

    Of limits one a minute and address, so that whoever runs into them cannot fill the trail.
    """
    code = _code(response)
    if code == "too-many-tries":
        return cache.add(f"limit-noted:{request.META.get('REMOTE_ADDR')}", True, LIMITS_NOTED_EVERY_S)
    return code in REFUSALS


@dataclass(slots=True)
class _Asked:
    """A request of a person while it is worked on. ``depth``: how deep in transactions that record it."""

    request: HttpRequest
    did: str
    body: Any
    depth: int = 0
    written: bool = False

    def write(self, refused: str = "") -> None:
        """Add its entry, with what was changed since the last one.

        On a standby, whose records are those of its primary, into the log of the process.
        """
        request, found = self.request, collected.get() or []
        if settings.IS_STANDBY:
            self.written = True
            where = request.META.get("REMOTE_ADDR")
            log.info("%s%s, by %r at %s", self.did, _how(request, refused), _who(request), where)
            return
        entry = AuditEntry(
            at=CLOCK.now(),
            by=_who(request),
            address=str(request.META.get("REMOTE_ADDR") or "")[:60],
            method=str(request.method),
            path=request.path.removeprefix("/api/v1/")[:400],
            did=f"{self.did[:150]}{_how(request, refused)}",
            sent=self.body,
            changed=[] if refused else list(found),
        )
        add_entry(entry)
        found.clear()
        self.written = True


@contextmanager
def in_the_name_of(by: str, did: str, path: str) -> Iterator[None]:
    """A transaction for what is changed later, for somebody who asked for it: the trail says what, as theirs.

    Nothing where nothing was changed. It belongs to no request, also where one is being answered.
    """
    marks = collected.set([]), _asked.set(None)
    try:
        with transaction.atomic():
            yield
            found = collected.get() or []
            if found:
                add_entry(
                    AuditEntry(
                        at=CLOCK.now(), by=by, address="", method="", path=path, did=did[:200], sent={},
                        changed=list(found),
                    )
                )  # fmt: skip
    finally:
        collected.reset(marks[0])
        _asked.reset(marks[1])


def _how(request: HttpRequest, refused: str) -> str:
    """By which approval, or that it was refused."""
    approval = getattr(request, "maestoso_approval", None)
    if refused:
        return f" (refused: {refused})"
    return f" (approved: request {approval})" if approval is not None else ""


def _who(request: HttpRequest) -> str:
    """The person, and the token of theirs that was shown."""
    if not request.user.is_authenticated:
        return ""
    token = getattr(request, "maestoso_token", "")
    return f"{request.user.get_username()}{f' (token {token})' if token else ''}"[:150]


_asked: ContextVar[_Asked | None] = ContextVar("asked", default=None)


@transaction.atomic
def add_entry(entry: AuditEntry) -> AuditHead:
    """Add an entry behind the last, with its number and hash; returns the new head."""
    AuditHead.objects.get_or_create(pk=1, defaults={"chain": ROOT})
    head = AuditHead.objects.select_for_update().get(pk=1)
    entry.number = head.number + 1
    entry.chain = link_text(head.chain, written(entry))
    entry.save()
    head.number, head.chain = entry.number, entry.chain
    head.save()
    announce()
    return head


def note_seal(number: int, head: str, events: int, at: datetime) -> AuditHead:
    """The seal of a run stands in the trail, so that neither can be made anew without the other."""
    sent = {"head": head, "events": events}
    return add_entry(
        AuditEntry(
            at=at, by="", address="", method="", path=f"runs/{number}", did=f"{SEALED} {number}", sent=sent,
            changed=[],
        )
    )  # fmt: skip


def written(entry: AuditEntry) -> str:
    """The one way to write an entry down, as it is hashed."""
    return json.dumps(
        {
            "number": entry.number, "at": entry.at.isoformat(), "by": entry.by, "address": entry.address,
            "method": entry.method, "path": entry.path, "did": entry.did, "sent": entry.sent,
            "changed": entry.changed,
        },
        sort_keys=True, separators=(",", ":"), ensure_ascii=False,
    )  # fmt: skip
