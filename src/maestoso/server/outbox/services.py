"""Asking sites for something: written down first, then brought to them, and kept until it is settled."""

from __future__ import annotations

import asyncio
import logging
import time
import uuid
from contextlib import nullcontext, suppress
from dataclasses import replace
from datetime import timedelta
from typing import Any

from django.db.models import Max, Value
from django.db.models.functions import Coalesce

from maestoso.core import outbox as rules
from maestoso.core.errors import Refused
from maestoso.core.outbox import DONE, FAILED, WAITING
from maestoso.core.ports import Clock, SiteBusy, SiteRefused, SiteUnreachable
from maestoso.core.runs.operations import Operation, OperationState
from maestoso.engine.clock import SystemClock
from maestoso.server.common.news import announce
from maestoso.server.config.settings import OPTIONS, SECRETS
from maestoso.server.estate.agents import PATIENCE_S, ask, forget_pulse, needed, pulse
from maestoso.server.estate.models import Site
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.secrets import with_secrets
from maestoso.server.reign import lease
from maestoso.sites.client import HttpSite

CLOCK = SystemClock()
KEEPER = "keeper"
"""Who asks where nobody does in person."""
LOOK_AGAIN_S = 0.03
LOOK_IN_S = 3.0
"""How often it is looked whether a site has done what it is at."""
CLAIMED_S = 5.0
"""How much longer than its patience a process has what it is bringing to itself."""
KEPT_DAYS = 30
log = logging.getLogger("maestoso.outbox")


def ask_for(
    site: Site, verb: str, subject: str, args: dict[str, Any], *, by: str, insists: bool = False
) -> SiteRequest:
    """Write down what a site is asked for, in the transaction of the change that it belongs to.

    Whoever waits for it calls :func:`deliver` once that is committed; else the keeper does.
    """
    now = CLOCK.now()
    before = SiteRequest.objects.filter(site=site, subject=subject).aggregate(last=Max("fence"))["last"] or 0
    return SiteRequest.objects.create(
        site=site, token=uuid.uuid4().hex, verb=verb, subject=subject, args=args, by=by, insists=insists,
        asked_at=now, not_before=now, fence=rules.fence_after(before, int(now.timestamp() * 1000)),
    )  # fmt: skip


def perform(
    site: Site, verb: str, subject: str, args: dict[str, Any], *, by: str, patience_s: float = PATIENCE_S
) -> OperationState:
    """Ask a site for one operation and wait for its end.

    Raises Refused in words where the site is away, will not, or fails; it is not asked again by itself then.
    """
    request = ask_for(site, verb, subject, args, by=by)
    try:
        with needed(f"{site.name} did not do it"):
            state = deliver(request, patience_s)
    except Refused as refused:
        if isinstance(refused.__cause__, UnderWay):
            raise Refused(
                f"{site.name} is at it, and it takes longer than {patience_s:.0f} s.",
                "It goes on by itself; what comes of it shows as soon as it is done.",
                code="site-at-it",
            ) from refused
        raise
    if state.status == FAILED:
        raise Refused(f"{site.name} could not do it: {state.reason}", code=state.code or "refused")
    return state


class NotYet(SiteUnreachable):
    """The site answers, and has not done it: it failed and is asked for again, or something is before it."""


class UnderWay(NotYet):
    """The site has taken it in and is at it. It has all the time that it needs; the keeper looks after it."""


def deliver(request: SiteRequest, patience_s: float = PATIENCE_S) -> OperationState:
    """Bring it to its site, behind all that was asked of the same subject before; how it ended there.

    Raises SiteUnreachable where that cannot be known now: what insists is brought again by the keeper,
    anything else is not asked for any more.
    """
    until = time.monotonic() + patience_s
    queue = SiteRequest.objects.select_related("site").filter(
        site=request.site_id, subject=request.subject, status=WAITING, pk__lte=request.pk
    )
    try:
        for one in queue.order_by("pk"):
            with suppress(UnderWay) if one.pk != request.pk else nullcontext():
                _bring(one, max(until - time.monotonic(), 0.05))
            if one.pk != request.pk and SiteRequest.objects.filter(pk=one.pk, status=WAITING).exists():
                raise NotYet(f"It waits behind {one.verb} of {one.subject}, which is not done yet.")
    except SiteUnreachable as error:
        request.refresh_from_db()
        after = rules.unheard(request.rule())
        if after.status != WAITING:
            _settle(request, after.status, reason=str(error))
        raise
    request.refresh_from_db()
    if request.status == WAITING:
        raise NotYet(request.reason or "It is being asked by another process.")
    return OperationState(
        key=_key(request), status="done" if request.status == DONE else "failed", result=request.result,
        code=request.code, reason=request.reason,
    )  # fmt: skip


def deliver_waiting(site: Site, clock: Clock) -> None:
    """To a site that answers, all that waits for it. What belongs together stays in its order."""
    due = SiteRequest.objects.filter(site=site, status=WAITING, not_before__lte=clock.now())
    if not due.exists() or pulse(site).lost_because is not None:
        return
    for request in due.order_by("pk"):
        try:
            deliver(request)
        except UnderWay:
            continue
        except NotYet as error:
            log.warning("%s has not done %s of %s: %s", site.code, request.verb, request.subject, error)
        except SiteUnreachable as error:
            log.warning("Not all that waits for %s was brought there: %s", site.code, error)
            return


def is_waiting(site: Site, subject: str) -> bool:
    """Whether something that a site was asked for of a subject is not settled yet."""
    return SiteRequest.objects.filter(site=site, subject=subject, status=WAITING).exists()


def withdraw(request: SiteRequest) -> bool:
    """Ask for it no more, where it was not sent yet; whether that was so. Within a transaction."""
    locked = SiteRequest.objects.select_for_update().get(pk=request.pk)
    after = rules.withdrawn(locked.rule())
    if after is None:
        return False
    _settle(locked, after.status)
    return True


def forget_old(clock: Clock) -> None:
    """Let go what was settled long ago and what nothing refers to."""
    old = SiteRequest.objects.filter(settled_at__lt=clock.now() - timedelta(days=KEPT_DAYS))
    old.filter(fences=None, given_up=None).delete()


def _bring(request: SiteRequest, patience_s: float) -> None:
    """One try. Of two processes only one has it at a time."""
    now = CLOCK.now()
    waiting = SiteRequest.objects.filter(pk=request.pk, status=WAITING)
    mine = waiting.filter(not_before__lte=now)
    patience = timedelta(seconds=patience_s + CLAIMED_S)
    if not mine.update(not_before=now + patience, sent_at=Coalesce("sent_at", Value(now))):
        return
    operation, taken_in = _operation(request), asyncio.Event()
    try:
        lease.check()
        state = ask(
            request.site, lambda agent: _carry_out(agent, operation, request, patience_s, taken_in),
            patience_s,
        )  # fmt: skip
    except SiteUnreachable as error:
        if taken_in.is_set():
            said = f"{request.site.code} is at {request.verb} of {request.subject}."
            waiting.update(taken_in=True, not_before=now + timedelta(seconds=LOOK_IN_S), reason=said)
            raise UnderWay(said) from error
        wait = timedelta(seconds=error.wait_s if isinstance(error, SiteBusy) else 0)
        waiting.update(not_before=now + wait, reason=str(error))
        raise
    except SiteRefused as refused:
        state = OperationState(key=operation.key, status="failed", code=refused.code, reason=refused.reason)
    after = rules.answered(request.rule(), state)
    if after.status == WAITING:
        waiting.update(
            generation=after.generation, code=state.code[:60], reason=state.reason,
            not_before=now + timedelta(seconds=rules.peace_s(request.generation)),
        )  # fmt: skip
    else:
        _settle(request, after.status, state.code, state.reason, state.result)
    forget_pulse(request.site)


def _operation(request: SiteRequest) -> Operation:
    bare = Operation(
        key=_key(request), run=f"{SECRETS.instance}/care/{request.subject}", verb=request.verb,
        subject=request.subject, args=request.args,
        pace=float(OPTIONS.pace) if request.site.practice else 1.0,
    )  # fmt: skip
    return replace(bare, args=with_secrets(bare))


async def _carry_out(
    agent: HttpSite, operation: Operation, request: SiteRequest, patience_s: float, taken_in: asyncio.Event
) -> OperationState:
    """Ask, and wait for the end; what was taken in long ago is only looked at."""
    state = await agent.put_operation(operation, request.fence, answer_s=patience_s)
    while not state.settled:
        taken_in.set()
        if request.taken_in:
            raise SiteUnreachable("It is at it.")
        await asyncio.sleep(LOOK_AGAIN_S)
        state = await agent.operation(operation.key) or state
    return state


def _settle(request: SiteRequest, status: str, code: str = "", reason: str = "", result: Any = None) -> None:
    SiteRequest.objects.filter(pk=request.pk, status=WAITING).update(
        status=status,
        code=code[:60],
        reason=reason,
        result=dict(result or {}),
        settled_at=CLOCK.now(),
        args={},
    )
    announce()


def _key(request: SiteRequest) -> str:
    return f"{SECRETS.instance}/{request.verb}/{request.subject}/{request.token}/{request.generation}"
