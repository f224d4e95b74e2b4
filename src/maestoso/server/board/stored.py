"""The stored board: the keeper reckons it in the background, and pages read it.

While somebody looks it is made anew whenever something was announced, and every few seconds, as ages and
sites change without a word; otherwise once a minute. Who reads it gets the moment that it is of with it.
"""

from __future__ import annotations

import time
from dataclasses import fields
from datetime import datetime, timedelta

import orjson

from maestoso.core.codec import from_data, to_data
from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.core.ports import Clock
from maestoso.server.board.models import StoredBoard
from maestoso.server.board.readiness import readiness
from maestoso.server.board.shapes import PlanLine, PlanList, PlanRowView, Standing
from maestoso.server.common import news
from maestoso.server.plans.models import PlanRow, PlanVersion
from maestoso.server.plans.services import find_plan
from maestoso.server.reign.services import past_because

WATCHED_FOR = timedelta(seconds=20)
"""Whoever shows it to somebody says so again before this is over."""
SELDOM = timedelta(seconds=60)
SHARE_OF_TIME = 4
"""At most a quarter of the time is spent on it, however large the estate."""
TOO_OLD = timedelta(seconds=150)
"""Nobody keeps it then: it is reckoned for who asks."""


def watch_board(now: datetime) -> None:
    """Say that somebody looks; whoever is the first has it made anew at once."""
    watched = StoredBoard.objects.filter(pk=1, watched_until__gt=now).exists()
    StoredBoard.objects.update_or_create(pk=1, defaults={"watched_until": now + WATCHED_FOR})
    if not watched:
        news.ring(others=True)


def refresh_board(clock: Clock) -> bool:
    """Reckon the board and store it; seldom while nobody looks. Whether somebody does."""
    now = clock.now()
    stored = StoredBoard.objects.defer("body").filter(pk=1).first()
    watched = stored is not None and stored.watched_until is not None and stored.watched_until > now
    if stored is not None and stored.made_at is not None:
        pause = timedelta(seconds=SHARE_OF_TIME * stored.took_s) if watched else SELDOM
        if timedelta(0) <= now - stored.made_at < pause:
            return watched
    began = time.monotonic()
    board = readiness(now)
    lines = tuple(_line(row) for row in board.plans)
    made = {"made_at": now, "body": _text(board), "lines": _text(lines)}
    StoredBoard.objects.update_or_create(pk=1, defaults={**made, "took_s": time.monotonic() - began})
    news.ring(others=True)
    return watched


def _text(value: object) -> str:
    return orjson.dumps(to_data(value)).decode()


def _read_stored(now: datetime, field: str) -> StoredBoard | None:
    """With one of its texts; None where there is none, it is too old to be shown, or nobody keeps it, as
    somebody else conducts."""
    if past_because():
        return None
    stored = StoredBoard.objects.filter(pk=1, made_at__gt=now - TOO_OLD)
    return stored.only("made_at", field).first()


def board_text(now: datetime, reach: Reach = EVERYTHING) -> str:
    """The board in JSON, as it was kept, or else as it is now: so also for who sees a part of everything."""
    if not reach.everything:
        return _text(readiness(now, reach))
    stored = _read_stored(now, "body")
    return stored.body if stored is not None else _text(readiness(now))


def plan_list(now: datetime, reach: Reach = EVERYTHING) -> PlanList:
    """All plans within reach, each with its standing where its version of now was looked at already."""
    stored = _read_stored(now, "lines")
    lines = from_data(tuple[PlanLine, ...], orjson.loads(stored.lines)) if stored is not None else ()
    known = {(line.code, line.version): line for line in lines}
    found = []
    for code, number in PlanRow.objects.order_by("pk").values_list("code", "current"):
        if reach.has("plan", code):
            found.append(known.get((code, number)) or _bare_line(find_plan(code).version()))
    return PlanList(as_of=stored.made_at if stored is not None else None, plans=tuple(found))


def _line(row: PlanRowView) -> PlanLine:
    """A row of the board in short."""
    standing = {field.name: getattr(row, field.name) for field in fields(Standing)}
    shared = {field.name: getattr(row, field.name) for field in fields(PlanLine) if field.name != "standing"}
    return PlanLine(**shared, standing=Standing(**standing))


def _bare_line(version: PlanVersion) -> PlanLine:
    """A plan that is newer than what is stored."""
    plan = version.core()
    return PlanLine(
        code=plan.code, name=plan.name, owner=plan.owner, tags=plan.tags, source=plan.source,
        target=plan.target, version=version.number, workloads=len(plan.workloads()), rpo_s=plan.rpo_s,
        rto_s=plan.rto_s, standing=None,
    )  # fmt: skip
