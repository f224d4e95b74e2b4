"""Bringing messages to their receivers: at least once, each by itself, so that none delays another."""

from __future__ import annotations

import logging
import random
import threading
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

from django.db import connection
from django.db.models import QuerySet

from maestoso.core.messages import GIVEN_UP_AFTER, again_in_s
from maestoso.core.ports import Clock
from maestoso.server.messages.channels import PATIENCE_S, NotTaken, send
from maestoso.server.messages.models import GIVEN_UP, SENT, WAITING, Message, Webhook

AT_ONCE = 8
CLAIMED_S = 2 * PATIENCE_S
Target = tuple[str, int]
log = logging.getLogger("maestoso.messages")
_busy: set[Target] = set()
_lock = threading.Lock()
_threads = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="messages")


def deliver(clock: Clock) -> None:
    """See to it that what is due is being sent; does not wait for it."""
    due = Message.objects.filter(state=WAITING, not_before__lte=clock.now())
    for target in _targets(due):
        with _lock:
            if target in _busy or len(_busy) >= AT_ONCE:
                continue
            _busy.add(target)
        _threads.submit(_in_thread, target, clock)


def _targets(due: QuerySet[Message]) -> Iterable[Target]:
    """Who is waited for: people and programs."""
    pairs = due.values_list("user", "webhook").distinct()
    return [("webhook", webhook) if webhook else ("user", user) for user, webhook in pairs]


def _in_thread(target: Target, clock: Clock) -> None:
    try:
        bring(target, clock)
    except Exception:
        log.exception("Messages for %s %s", *target)
    finally:
        connection.close()
        with _lock:
            _busy.discard(target)


def bring(target: Target, clock: Clock) -> None:
    """Bring one receiver all that is due, the oldest first, until something is not taken."""
    kind, pk = target
    waiting = Message.objects.filter(**{kind: pk}, state=WAITING).select_related("user", "webhook")
    while True:
        now = clock.now()
        message = waiting.filter(not_before__lte=now).order_by("pk").first()
        # Of two processes one has it; what is cut off after it was sent goes again, with the same id.
        claim = (
            Message.objects.filter(pk=message.pk, not_before=message.not_before, state=WAITING)
            if message
            else None
        )
        if (
            message is None
            or claim is None
            or not claim.update(not_before=now + timedelta(seconds=CLAIMED_S), tries=message.tries + 1)
        ):
            return
        mine = Message.objects.filter(pk=message.pk)
        try:
            send(message)
        except NotTaken as error:
            _not_taken(message, error, clock)
            return
        mine.update(state=SENT, sent_at=clock.now(), said="")


def _not_taken(message: Message, error: NotTaken, clock: Clock) -> None:
    """Try it again later, with all that waits for the same receiver; or give it up."""
    now = clock.now()
    log.warning("A message was not taken: %s", error)
    if error.ended and message.webhook is not None:
        Webhook.objects.filter(pk=message.webhook.pk).update(enabled=False, stopped_because=str(error)[:300])
        Message.objects.filter(webhook=message.webhook, state=WAITING).update(
            state=GIVEN_UP, said=str(error)[:500]
        )
        return
    same = Message.objects.filter(user=message.user, webhook=message.webhook, state=WAITING)
    if now - message.made_at > GIVEN_UP_AFTER:
        same.filter(pk=message.pk).update(state=GIVEN_UP, said=str(error)[:500])
        return
    again = now + timedelta(seconds=again_in_s(message.tries + 1, random.random()))
    same.filter(not_before__lt=again).update(not_before=again)
    same.filter(pk=message.pk).update(said=str(error)[:500])
