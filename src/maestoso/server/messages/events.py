"""The events of everything in one order, for programs that follow: runs, matters, what people changed.

Only whoever looks after messages writes them, so that their numbers have the order in which they can be seen.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import F
from django.db.models.functions import Coalesce
from rest_framework.request import Request

from maestoso.core.errors import BadValue, Gone
from maestoso.core.people.roles import READ_AUDIT, SEE
from maestoso.core.people.scope import Reach
from maestoso.core.ports import Clock
from maestoso.engine.clock import SystemClock
from maestoso.server.access.reach import reach_for
from maestoso.server.audit.models import AuditEntry, AuditHead
from maestoso.server.board.readiness import leads_into
from maestoso.server.common.news import NewsWaiter, announce
from maestoso.server.messages.channels import Part, event, link
from maestoso.server.messages.models import EventStream, StreamedEvent, StreamedRun
from maestoso.server.messages.shapes import EventPage
from maestoso.server.reign import services as reign
from maestoso.server.reign.following import check
from maestoso.server.runs.models import Run, RunEvent

CLOCK = SystemClock()
FOLLOWED_FOR = timedelta(days=7)
"""So long after somebody asked, it is still written for them."""
KEPT = timedelta(days=7)
ASKED_EVERY = timedelta(minutes=10)
"""It is noted so often that somebody follows."""
MOST_AT_ONCE = 500
LONGEST_WAIT_S = 20.0
LOOK_EVERY_S = 1.0
LONGEST_CURSOR = 40
MOST_WAITING = 4
"""Whoever waits keeps a place of the web server from everybody else."""
LARGE = ("inputs", "findings")
"""What the first event of a run begins from: it is asked for with the run."""
_waiting = threading.BoundedSemaphore(MOST_WAITING)


# --- writing ---


def flows() -> bool:
    """Whether anybody follows."""
    return EventStream.objects.filter(flows=True).exists()


def write_stream(clock: Clock) -> None:
    """Append what runs and people did since the last look, while somebody follows."""
    stream = EventStream.objects.filter(flows=True).first()
    if stream is None:
        return
    if stream.asked_at is None or stream.asked_at < clock.now() - FOLLOWED_FOR:
        _stop()
        return
    while _append_some():
        pass


def write_matters(parts: Iterable[Part], now: datetime) -> None:
    """Append what is said of matters, within the transaction of whoever says it."""
    stream = EventStream.objects.select_for_update().filter(flows=True).first()
    if stream is not None:
        _append(stream, [StreamedEvent(at=now, part=part) for part in parts])


def forget_old_events(clock: Clock) -> None:
    """Let go of what was told long ago."""
    old = StreamedEvent.objects.filter(at__lt=clock.now() - KEPT).order_by("-number").first()
    if old is not None:
        with transaction.atomic():
            EventStream.objects.update(gone=old.number)
            StreamedEvent.objects.filter(number__lte=old.number).delete()


def _begin(stream: EventStream) -> None:
    """From now on. What happened while nobody followed lacks, and a number with it, so that it shows."""
    stream.number += 1
    stream.gone, stream.flows = stream.number, True
    stream.audit = AuditHead.objects.values_list("number", flat=True).first() or 0
    StreamedRun.objects.bulk_create(
        StreamedRun(run_id=pk, seq=seq) for pk, seq in Run.objects.values_list("pk", "last_seq")
    )


@transaction.atomic
def _stop() -> None:
    EventStream.objects.update(flows=False, gone=F("number"))
    StreamedEvent.objects.all().delete()
    StreamedRun.objects.all().delete()


@transaction.atomic
def _append_some() -> bool:
    """Returns whether there may be more."""
    stream = EventStream.objects.select_for_update().get()
    entries = list(AuditEntry.objects.filter(number__gt=stream.audit).order_by("number")[:MOST_AT_ONCE])
    rows = [StreamedEvent(at=one.at, entry=one) for one in entries]
    if entries:
        stream.audit = entries[-1].number
    told = Coalesce("streamed__seq", 0)
    for run in Run.objects.annotate(told=told).filter(last_seq__gt=F("told")).order_by("pk"):
        found = list(RunEvent.objects.filter(run=run, seq__gt=run.told).order_by("seq")[:MOST_AT_ONCE])
        if found:
            rows += [StreamedEvent(at=one.at, event=one) for one in found]
            StreamedRun.objects.update_or_create(run=run, defaults={"seq": found[-1].seq})
    _append(stream, sorted(rows, key=lambda row: row.at))
    return len(rows) >= MOST_AT_ONCE


def _append(stream: EventStream, rows: list[StreamedEvent]) -> None:
    for row in rows:
        stream.number += 1
        row.number = stream.number
    StreamedEvent.objects.bulk_create(rows)
    stream.save()
    if rows:
        announce()


# --- reading ---


def page(request: Request) -> EventPage:
    """What came after a cursor, as far as whoever asks may see it; waited for where nothing has come yet.

    Raises BadValue, and Gone where it is not known any more what came after it.
    """
    check()  # on a standby nobody writes it
    asked = request.query_params.get("after", "")
    wait_s = _seconds(request.query_params.get("wait_s", "0"))
    stream = _followed(CLOCK.now())
    if not asked:
        return EventPage(cursor=_cursor(stream.number), events=())
    after = _number(asked, stream)
    rows = _after(after) or _waited_for(after, wait_s)
    seen, audits = reach_for(request, SEE), reach_for(request, READ_AUDIT)
    events = tuple(_said(row) for row in rows if _is_for(row, seen, audits))
    return EventPage(cursor=_cursor(rows[-1].number if rows else after), events=events)


def _followed(now: datetime) -> EventStream:
    """Note that somebody follows; whoever is the first has the stream begin."""
    stream = EventStream.objects.first()
    if stream is not None and stream.flows and stream.asked_at and stream.asked_at > now - ASKED_EVERY:
        return stream
    with transaction.atomic():
        EventStream.objects.get_or_create(pk=1)
        stream = EventStream.objects.select_for_update().get()
        stream.asked_at = now
        if not stream.flows:
            _begin(stream)
        stream.save()
    return stream


def _after(number: int) -> list[StreamedEvent]:
    found = StreamedEvent.objects.filter(number__gt=number).select_related("event__run", "entry")
    return list(found[:MOST_AT_ONCE])


def _waited_for(number: int, wait_s: float) -> list[StreamedEvent]:
    """Looked for until there are some; at once where too many wait already."""
    if not wait_s or not _waiting.acquire(blocking=False):
        return []
    until, waiter = time.monotonic() + wait_s, NewsWaiter()
    try:
        while time.monotonic() < until:
            waiter.wait(LOOK_EVERY_S)
            if found := _after(number):
                return found
    finally:
        _waiting.release()
    return []


def _seconds(text: str) -> float:
    if not text.isdecimal() or float(text) > LONGEST_WAIT_S:
        said = f"wait_s is {text[:20]!r}."
        raise BadValue(said, f"Give whole seconds, 0 to {LONGEST_WAIT_S:.0f}.", field="wait_s")
    return float(text)


def _cursor(number: int) -> str:
    return f"{reign.number()}-{number}"


def _number(text: str, stream: EventStream) -> int:
    reigned, _, number = text.partition("-")
    if not (reigned.isdecimal() and number.isdecimal() and len(text) <= LONGEST_CURSOR):
        raise BadValue(
            f"after is {text[:40]!r}, which is no cursor.", "Give the cursor of the answer before, or none.",
            field="after",
        )  # fmt: skip
    # Another machine counts on from what it had: what this one told last it may not know, or tell again.
    if int(reigned) != reign.number() or not stream.gone <= int(number) <= stream.number:
        raise Gone(
            f"What came after {text} is not kept any more, or was told by another machine.",
            f"Read how everything stands now, and follow from there with after={_cursor(stream.number)}.",
            code="events-gone",
        )
    return int(number)


def _is_for(row: StreamedEvent, seen: Reach, audits: Reach) -> bool:
    if row.event is not None:
        run = row.event.run
        return seen.has_run(run.plan_code, run.source, run.target)
    if row.entry is not None:
        return audits.everything
    # Approvals are asked of certain people; whoever follows may be none of them.
    return seen.everything or (row.part["code"] != "approval" and leads_into(str(row.part["to"]), seen))


def _said(row: StreamedEvent) -> dict[str, Any]:
    """As a CloudEvent."""
    if row.part is not None:
        return event(row.part, _cursor(row.number), row.at)
    data: dict[str, Any]
    if row.event is not None:
        one, run = row.event, row.event.run
        kind, subject, to = f"run-log.{one.kind}", f"runs/{run.pk}", f"/runs/{run.pk}"
        said = {key: value for key, value in one.data.items() if key not in LARGE}
        data = {
            "run": run.pk, "plan": run.plan_code, "kind": run.kind, "seq": one.seq, "run_s": one.run_s,
            "by": one.by, "said": said,
        }  # fmt: skip
    else:
        entry = row.entry
        assert entry is not None
        kind, subject, to = "changed", entry.path, "/settings/audit"
        data = {"number": entry.number, "by": entry.by, "did": entry.did, "method": entry.method}
    return {
        "specversion": "1.0", "id": _cursor(row.number), "source": link(""), "type": f"maestoso.{kind}",
        "subject": subject, "time": row.at.isoformat(), "datacontenttype": "application/json",
        "data": {**data, "link": link(to)},
    }  # fmt: skip
