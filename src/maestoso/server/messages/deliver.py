"""Bringing messages to their receivers: at least once, each by itself, so that none delays another."""

from __future__ import annotations

import logging
import random
import threading
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

from django.db import connection
from django.db.models import F, Q, QuerySet

from maestoso.core.messages import GIVEN_UP_AFTER, again_in_s
from maestoso.core.ports import Clock
from maestoso.server.messages.channels import PATIENCE_S, NotTaken, send
from maestoso.server.messages.models import GIVEN_UP, SENT, WAITING, Message, Webhook

AT_ONCE = 8
MOST_TOGETHER = 50
CLAIMED_S = 2 * PATIENCE_S
BEHIND = "It waits for an earlier one that was not taken."
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
    """Bring one receiver all that is due, the oldest first, until it takes nothing.

    What it did not take, and what waits behind that, goes as soon as anything is due: the order holds, and
    who is back again has everything at once.
    """
    kind, pk = target
    waiting = Message.objects.filter(**{kind: pk}, state=WAITING).select_related("user", "webhook")
    refused: set[int] = set()
    if not waiting.filter(not_before__lte=clock.now()).exists():
        return
    while True:
        now = clock.now()
        goes = Q(not_before__lte=now) | ~Q(said="")
        due = list(waiting.filter(goes).exclude(pk__in=refused).order_by("pk")[:MOST_TOGETHER])
        # What waited for a person until now, and belongs together, is one letter.
        ones = [one for one in due if one.thread == due[0].thread] if kind == "user" else due[:1]
        if not ones:
            return
        mine = Message.objects.filter(pk__in=[one.pk for one in ones])
        # Of two processes one has them; what is cut off after it was sent goes again, with the same id.
        claimed = mine.filter(goes, state=WAITING).update(
            not_before=now + timedelta(seconds=CLAIMED_S), tries=F("tries") + 1, said=""
        )
        if claimed != len(ones):
            return
        first = ones[0]
        first.parts = [part for one in ones for part in one.parts]
        try:
            send(first)
        except NotTaken as error:
            _not_taken(ones, error, clock)
            if not error.only_this:
                return
            refused |= {one.pk for one in ones}
            continue
        mine.update(state=SENT, sent_at=clock.now(), said="")


def _not_taken(ones: Sequence[Message], error: NotTaken, clock: Clock) -> None:
    """Try them again later, with all that is due for the same receiver; or give them up."""
    now, first = clock.now(), ones[0]
    log.warning("A message was not taken: %s", error)
    same = Message.objects.filter(user=first.user, webhook=first.webhook, state=WAITING)
    if error.ended and first.webhook is not None:
        Webhook.objects.filter(pk=first.webhook.pk).update(enabled=False, stopped_because=str(error)[:300])
        same.update(state=GIVEN_UP, said=str(error)[:500])
        return
    tried = same.filter(pk__in=[one.pk for one in ones])
    tried.update(said=str(error)[:500])
    tried.filter(due_at__lt=now - GIVEN_UP_AFTER).update(state=GIVEN_UP)
    again = now + timedelta(seconds=again_in_s(first.tries + 1, random.random()))
    tried.update(not_before=again)
    if not error.only_this:
        same.filter(not_before__lte=now).update(not_before=again, said=BEHIND)
