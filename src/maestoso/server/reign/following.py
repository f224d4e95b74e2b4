"""What the pages of a standby say of it: how far behind it is, and what a takeover would mean."""

from __future__ import annotations

import os
import signal
import threading
import time
from dataclasses import replace
from datetime import datetime

from django.apps import apps
from django.conf import settings
from django.db import connection
from django.db.models import Max

from maestoso.core.errors import BadValue, DomainError, NotFound
from maestoso.server.config.settings import OPTIONS
from maestoso.server.config.standby import (
    ASKS,
    WORDS,
    Standby,
    read_standby,
    understood,
    write_standby,
)
from maestoso.server.reign.models import Reign
from maestoso.server.reign.shapes import Takeover

LOOK_EVERY_S = 0.5
_witness_said = ""
"""What the witness answered last to this process."""


class OnlyFollows(DomainError):
    """A standby changes nothing. Remedy: go on at its primary, or have it take over."""

    code, status = "standby", 409


def check() -> None:
    """Raises OnlyFollows on a standby."""
    if settings.IS_STANDBY:
        raise OnlyFollows(
            f"This is the standby of {_standby().host}, which shows what that has and changes nothing.",
            "Go on at the primary; if that is lost, have this one take over.",
        )


def takeover() -> Takeover:
    """What is known of the primary, and what a takeover would mean now. Raises NotFound."""
    standby = _standby()
    with connection.cursor() as cursor:
        cursor.execute(ASKS)
        row = cursor.fetchone()
        names = [column[0] for column in cursor.description or ()]
    found = understood(dict(zip(names, row, strict=True)) if row else {})
    reign = Reign.objects.filter(pk=1).first()
    beats = apps.get_model("runs", "EngineBeat").objects.aggregate(last=Max("at"))
    return Takeover(
        of=standby.host, since=datetime.fromisoformat(standby.since),
        connected=found.connected, behind_s=found.behind_s,
        sentence="It takes over." if standby.taking_over else found.in_words(), heard_at=beats["last"],
        under_way=apps.get_model("runs", "Run").objects.filter(outcome="").count(), words=WORDS,
        begun=standby.taking_over, failed=standby.failed, witness=reign.witness if reign else "",
        witness_said=_witness_said,
    )  # fmt: skip


def witness_said(said: str) -> str:
    """Keep what the witness answered, for the pages."""
    global _witness_said
    _witness_said = said
    return said


def take_over(words: str, by: str) -> None:
    """Have it done, by what started this process. Raises NotFound, BadValue."""
    standby = _standby()
    if words.strip() != WORDS:
        raise BadValue("Nothing was changed.", f"Type the words: {WORDS}.", field="words")
    write_standby(OPTIONS.var, replace(standby, taking_over=True, by=by, witness="", failed=""))


def end_when_it_conducts() -> None:
    """The web process of a standby ends once that has taken over: another one is started in its place."""
    if settings.IS_STANDBY:
        threading.Thread(target=_wait_and_end, name="standby", daemon=True).start()


def _wait_and_end() -> None:
    while read_standby(OPTIONS.var) is not None:
        time.sleep(LOOK_EVERY_S)
    os.kill(os.getpid(), signal.SIGTERM)


def _standby() -> Standby:
    standby = read_standby(OPTIONS.var) if settings.IS_STANDBY else None
    if standby is None:
        raise NotFound("This Maestoso is no standby.", "Load the page again.")
    return standby
